import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, type SealState, sendFile, take } from "../api/client";
import { ALOUD } from "../api/refused";
import { seal as sealQuery, trustedRoots } from "./queries";
import { FileButton } from "../shell/FileButton";
import { count } from "../shell/format";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Press } from "../ui/Press";
import { Section } from "../ui/Section";

/** Who may seal here, and whose seals are accepted. */
export function Holders() {
  const { data } = useQuery(sealQuery);
  if (!data) return null;
  return (
    <Stack gap={2}>
      <OwnSeal seal={data} key={data.version} />
      <Accepted />
    </Stack>
  );
}

const date = (text: string): string =>
  new Date(text).toLocaleDateString("en-GB", { day: "numeric", month: "long", year: "numeric" });

type Staff = SealState["root"];
interface Wish {
  keys: string[];
  threshold: number;
}
const wishOf = (staff: Staff): Wish => ({
  keys: staff.holders.map((h) => h.keyid),
  threshold: staff.threshold,
});

function OwnSeal({ seal }: { seal: SealState }) {
  const queries = useQueryClient();
  const renew = () => queries.invalidateQueries({ queryKey: ["repositories"] });
  const [root, setRoot] = useState(wishOf(seal.root));
  const [targets, setTargets] = useState(wishOf(seal.targets));
  const [online, setOnline] = useState(false);
  const change = useMutation({
    mutationFn: () =>
      take(
        api.PUT("/api/v1/seal", {
          body: {
            root: root.keys,
            root_threshold: root.threshold,
            targets: targets.keys,
            targets_threshold: targets.threshold,
            other_online: online,
          },
        }),
      ),
    onSettled: renew,
  });
  const changed =
    JSON.stringify([root, targets]) !== JSON.stringify([wishOf(seal.root), wishOf(seal.targets)]) || online;
  const own = seal.root.holders.concat(seal.targets.holders);
  const kept = (id: string) => id === "new" || own.some((h) => h.keyid === id && h.kept);
  return (
    <Section title="This house’s seal" gap={1}>
      <Text tone={seal.ends === "later" ? "quiet" : "deep"} size="body">
        Root {seal.version}, good until {date(seal.expires)}
        {seal.ends === "soon" && ", which is soon: make the next one"}
        {seal.ends === "over" && ": ended, nothing sealed by it is accepted any more"}.
        {seal.older > 0 &&
          ` ${count(seal.older, "repository")} sealed under an older root; seal them anew if keys were taken out.`}
      </Text>
      {seal.draft && <Draft wanted={seal.draft} renew={() => void renew()} />}
      <Staffing title="Change who may sign (root)" wish={root} set={setRoot} kept={kept} />
      <Staffing title="Seal repositories (targets)" wish={targets} set={setTargets} kept={kept} />
      <Row as="label" size="small" gap={0.75}>
        <input type="checkbox" checked={online} onChange={(e) => setOnline(e.target.checked)} />a new key for
        snapshot and timestamp, which Ordnung signs by itself
      </Row>
      {change.error && <Notice title="Not changed">{change.error.message}</Notice>}
      <ActionBar>
        <Act
          takes="approve"
          variant="contained"
          why={changed ? null : "Nothing is changed yet."}
          onClick={() => change.mutate()}
          loading={change.isPending}
        >
          Make root {seal.version + 1}
        </Act>
        <Button variant="outlined" href="/api/v1/seal/root" download="1.root.json">
          Get the first root
        </Button>
      </ActionBar>
      <Text tone="quiet" size="note">
        The first root can be trusted at a far end before anything is carried there.
      </Text>
    </Section>
  );
}

interface StaffingProps {
  title: string;
  wish: Wish;
  set: (wish: Wish) => void;
  kept: (id: string) => boolean;
}

function Staffing({ title, wish, set, kept }: StaffingProps) {
  const [key, setKey] = useState("");
  const add = (id: string) => {
    set({ ...wish, keys: [...wish.keys, id] });
    setKey("");
  };
  return (
    <Stack role="group" aria-label={title} framed="rule" p={1} gap={0.5} size="small">
      <Row align="center" gap={1}>
        <Title level={3}>{title}</Title>
        <Block as="label" ml="auto" noWrap>
          <input
            type="number"
            min={1}
            max={wish.keys.length}
            value={wish.threshold}
            aria-label={`${title}: how many must sign`}
            onChange={(e) => set({ ...wish, threshold: Math.max(1, Number(e.target.value)) })}
            style={{ width: 44, font: "inherit" }}
          />{" "}
          of {wish.keys.length}
        </Block>
      </Row>
      {wish.keys.map((id, n) => (
        <Row key={`${id} ${n}`} gap={1} align="baseline">
          <Mono>{id === "new" ? "a new key" : `${id.slice(0, 16)}…`}</Mono>
          <Tag tone={kept(id) ? "water" : "rule"}>{kept(id) ? "kept here" : "elsewhere"}</Tag>
          <Button
            variant="text"
            size="inline"
            color="quiet"
            aria-label={`Take out ${id === "new" ? "the new key" : id.slice(0, 16)}: ${title}`}
            onClick={() =>
              set({
                keys: wish.keys.filter((_, m) => m !== n),
                threshold: Math.max(1, Math.min(wish.threshold, wish.keys.length - 1)),
              })
            }
            sx={{ ml: "auto" }}
          >
            take out
          </Button>
        </Row>
      ))}
      <Box>
        <Press type="button" onClick={() => add("new")}>
          Add a key kept here
        </Press>
      </Box>
      <Row gap={1} align="center">
        <TextField
          size="small"
          label="or the public half of one elsewhere"
          value={key}
          onChange={(e) => setKey(e.target.value.trim())}
          onKeyDown={(e) => e.key === "Enter" && /^[0-9a-f]{64}$/i.test(key) && add(key.toLowerCase())}
          sx={{ flex: 1 }}
        />
        <Act
          variant="outlined"
          why={/^[0-9a-f]{64}$/i.test(key) ? null : "A public key has 64 hex digits."}
          onClick={() => add(key.toLowerCase())}
        >
          Add
        </Act>
      </Row>
    </Stack>
  );
}

function Draft({ wanted, renew }: { wanted: NonNullable<SealState["draft"]>; renew: () => void }) {
  const bring = useMutation({
    mutationFn: (file: File) => sendFile("/api/v1/seal/draft", file),
    onSettled: renew,
  });
  const drop = useMutation({
    meta: ALOUD,
    mutationFn: () => take(api.DELETE("/api/v1/seal/draft")),
    onSettled: renew,
  });
  return (
    <Stack
      role="status"
      aria-label="The next root"
      side="pending"
      ground="pending"
      p={1}
      gap={0.5}
      size="small"
    >
      <strong>The next root waits for signatures</strong>
      {wanted.map((w) => (
        <span key={w.role}>
          {w.role}: {w.have} of {w.threshold}; could sign:{" "}
          <Mono>{w.open_to.map((k) => k.slice(0, 12)).join(", ")}</Mono>
        </span>
      ))}
      <ActionBar>
        <Button variant="outlined" href="/api/v1/seal/draft">
          Get the file
        </Button>
        <FileButton
          takes="approve"
          label="Bring it signed"
          name="Signed root"
          accept=".json"
          pending={bring.isPending}
          chosen={([file]) => file && bring.mutate(file)}
        />
        <Act takes="approve" variant="text" color="quiet" onClick={() => drop.mutate()}>
          Leave the root as it is
        </Act>
      </ActionBar>
      {bring.error && <Notice title="Not taken">{bring.error.message}</Notice>}
    </Stack>
  );
}

function Accepted() {
  const queries = useQueryClient();
  const { data = [] } = useQuery(trustedRoots);
  const drop = useMutation({
    meta: ALOUD,
    mutationFn: (id: number) => take(api.DELETE("/api/v1/trusted-roots/{id}", { params: { path: { id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["repositories"] }),
  });
  return (
    <Section title="Seals accepted from elsewhere" gap={0.5} size="small">
      {data.length === 0 && (
        <Text tone="quiet">
          None yet. The first repository of another house is refused with its key shown, for you to compare.
        </Text>
      )}
      {data.map((r) => (
        <Block key={r.id} ruled py={0.5} breaks>
          <strong>{r.name}</strong>, root {r.version}, compared by {r.added_by}
          <br />
          <Mono dim>{r.keys.split(",").join(" ")}</Mono>{" "}
          <Act
            takes="approve"
            variant="text"
            aria-label={`Accept seals of ${r.name} no longer`}
            onClick={() => drop.mutate(r.id)}
            size="inline"
            color="quiet"
          >
            accept no longer
          </Act>
        </Block>
      ))}
    </Section>
  );
}
