import Autocomplete from "@mui/material/Autocomplete";
import Box from "@mui/material/Box";
import Dialog from "@mui/material/Dialog";
import TextField from "@mui/material/TextField";
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useMemo, useState } from "react";
import { useNavigate } from "react-router";

import { api, take } from "../api/client";
import { advisories, baseline, repositories, runs } from "../api/queries";
import { ask } from "../api/refused";
import { floor } from "../waterline/spots";
import { type Fits, type Found, indexOf } from "./found";
import { PLACES } from "./Places";
import { Block, Text } from "../ui/layout";

/** Looks through everything that can be found or done. */
function useIndex(): (line: string) => Fits {
  const navigate = useNavigate();
  const all = useQuery(floor).data;
  const list = useQuery(baseline).data;
  const sheets = useQuery(runs).data;
  const notes = useQuery(advisories).data;
  const packed = useQuery(repositories).data;
  return useMemo(() => {
    const to = (path: string) => () => void navigate(path);
    const places = PLACES.map((p) => ({ group: "Places", label: p.name, hint: "", go: to(p.path) }));
    const acts: Found[] = [
      {
        group: "Do",
        label: "Read all servers",
        hint: "survey",
        go: () => ask(take(api.POST("/api/v1/surveys", { body: { failed: false } }))),
      },
      {
        group: "Do",
        label: "Read again what failed",
        hint: "servers whose last reading failed",
        go: () => ask(take(api.POST("/api/v1/surveys", { body: { failed: true } }))),
      },
      {
        group: "Do",
        label: "Try the way from all controllers",
        hint: "who reaches the repository",
        go: () => ask(take(api.POST("/api/v1/reach", { body: { failed: false } }))),
      },
      {
        group: "Do",
        label: "Add servers",
        hint: "by address, range, list or by searching the network",
        go: to("/floor?add=1"),
      },
      {
        group: "Do",
        label: "Look for new catalogs",
        hint: "at all sources",
        go: () => ask(take(api.POST("/api/v1/catalog-sources/fetch", { body: {} }))),
      },
      {
        group: "Do",
        label: "Bring in a catalog",
        hint: "from a file, with its signature",
        go: to("/baseline?side=sources"),
      },
      {
        group: "Do",
        label: "Review what is to be done",
        hint: "and send it on",
        go: to("/drift?side=review"),
      },
      {
        group: "Do",
        label: "Lay out a run sheet",
        hint: "for some servers, into a window",
        go: to("/run-sheet?new=1"),
      },
      {
        group: "Do",
        label: "Windows, groups and limits of the house",
        hint: "when servers may go down, and how many together",
        go: to("/house"),
      },
      {
        group: "Do",
        label: "Pack a repository",
        hint: "for all servers that need something",
        go: to("/repository?new=1"),
      },
      {
        group: "Do",
        label: "Carry a repository in",
        hint: "from a file or a path",
        go: to("/repository?in=1"),
      },
      {
        group: "Do",
        label: "Change who may seal",
        hint: "holders and thresholds",
        go: to("/repository?side=holders"),
      },
      {
        group: "Do",
        label: "Look over the store",
        hint: "hash every payload",
        go: () => ask(take(api.POST("/api/v1/store"))),
      },
      {
        group: "Do",
        label: "Look through the audit trail",
        hint: "who did what, when, from where",
        go: to("/record/trail"),
      },
      {
        group: "Do",
        label: "People and rights",
        hint: "add, disable, reset; your password and sessions",
        go: to("/people"),
      },
      {
        group: "Do",
        label: "Plan a run",
        hint: "for all servers that need something",
        go: to("/run-sheet?new=1"),
      },
    ];
    const names = (all ?? []).map((s) => ({
      group: "Servers",
      label: s.name,
      hint: `${s.model}, ${s.rack} unit ${s.unit}`,
      go: to(`/floor?servers=${s.name}`),
    }));
    const products = (list?.lines ?? []).map((l) => ({
      group: "Products",
      label: l.name,
      hint: l.held ? "held" : `${l.target ?? ""}, ${l.issues.map((i) => i.name).join(", ")}`,
      go: to(`/drift?product=${l.product}`),
    }));
    const told = (notes ?? []).map((a) => ({
      group: "Advisories",
      label: a.id,
      hint: a.affected
        ? `${a.affected} servers affected`
        : a.undecided
          ? "can't be decided"
          : "nothing affected",
      go: to(`/drift?side=advisories&advisory=${a.id}`),
    }));
    const rules = (list?.rules ?? []).map((r, n) => ({
      group: "House rules",
      label: `${r.do} ${r.what}`,
      hint: `rule ${n + 1}: ${r.reason}`,
      go: to("/baseline"),
    }));
    const sheetRows = (sheets ?? []).map((r) => ({
      group: "Runs",
      label: r.name,
      hint: r.state,
      go: to(r.state === "ended" ? `/record/${r.id}` : `/run-sheet/${r.id}`),
    }));
    const boxes = (packed ?? []).map((r) => ({
      group: "Repositories",
      label: r.name,
      hint: `edition ${r.edition}, ${r.state}`,
      go: to(`/repository?repository=${r.id}`),
    }));
    return indexOf([...acts, ...places, ...names, ...products, ...told, ...rules, ...boxes, ...sheetRows]);
  }, [all, list, notes, packed, sheets, navigate]);
}

/** Find or do: one line for everything. */
export function Find({ open, close }: { open: boolean; close: () => void }) {
  return (
    <Dialog
      open={open}
      onClose={close}
      fullWidth
      maxWidth="sm"
      aria-label="Find or do"
      slotProps={{ container: { sx: { alignItems: "flex-start" } } }}
    >
      {open && <FindLine close={close} />}
    </Dialog>
  );
}

function FindLine({ close }: { close: () => void }) {
  const find = useIndex();
  const [line, setLine] = useState("");
  const { rows, totals } = useMemo(() => find(line), [find, line]);
  return (
    <Block p={2}>
      <Autocomplete
        open
        options={rows}
        filterOptions={(fitting) => fitting}
        inputValue={line}
        onInputChange={(_, typed) => setLine(typed)}
        noOptionsText="Nothing here is called that."
        renderGroup={({ key, group, children }) => (
          <Group
            key={key}
            name={group}
            total={totals.get(group) ?? 0}
            shown={rows.filter((f) => f.group === group).length}
          >
            {children}
          </Group>
        )}
        groupBy={(f) => f.group}
        getOptionLabel={(f) => f.label}
        getOptionKey={(f) => `${f.group} ${f.label} ${f.hint}`}
        autoHighlight
        onChange={(_, chosen) => {
          chosen?.go();
          close();
        }}
        renderOption={({ key, ...props }, f) => (
          <Box component="li" key={key} {...props} sx={{ display: "flex", gap: 1.5 }}>
            {f.label}
            <Text as="span" tone="quiet" size="note">
              {f.hint}
            </Text>
          </Box>
        )}
        renderInput={(params) => (
          <TextField {...params} autoFocus label="Find a server, product or run, or say what to do" />
        )}
      />
    </Block>
  );
}

/** A heading that says when there are more than are shown. */
function Group({
  name,
  shown,
  total,
  children,
}: {
  name: string;
  shown: number;
  total: number;
  children: ReactNode;
}) {
  return (
    <li>
      <Text px={2} pt={1} size="note" tone="quiet">
        {name}
        {total > shown &&
          `: the first ${shown} of ${total.toLocaleString("en-GB")}; type on to find the others`}
      </Text>
      <Block as="ul" p={0}>
        {children}
      </Block>
    </li>
  );
}
