import Box from "@mui/material/Box";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, take } from "../api/client";
import { site as siteQuery } from "../api/queries";
import { places as placesQuery, store as storeQuery } from "./queries";
import { waysBack } from "../api/waysBack";
import { ALOUD } from "../api/refused";
import { ago, count, size } from "../shell/format";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono } from "../ui/text";
import { LookInside } from "./LookInside";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Field, Unsaid } from "../ui/Field";
import { Section } from "../ui/Section";

/** Where payloads come from, the store they lie in, and looks into single ones. */
export function Supply() {
  return (
    <Stack gap={2.25}>
      <Places />
      <Store />
      <WayBack />
      <LookInside />
    </Stack>
  );
}

function Places() {
  const queries = useQueryClient();
  const { data } = useQuery(placesQuery);
  const now = Date.parse(useQuery(siteQuery).data?.now ?? new Date().toISOString());
  const [told, tell] = useState({ base: "", proxy: "" });
  const renew = () => queries.invalidateQueries({ queryKey: ["repositories", "places"] });
  const add = useMutation({
    mutationFn: () => take(api.POST("/api/v1/fetch-places", { body: told })),
    onSuccess: () => {
      tell({ base: "", proxy: "" });
      return renew();
    },
  });
  const trust = useMutation({
    meta: ALOUD,
    mutationFn: (id: number) => take(api.POST("/api/v1/fetch-places/{id}", { params: { path: { id } } })),
    onSuccess: renew,
  });
  const drop = useMutation({
    meta: ALOUD,
    mutationFn: (id: number) => take(api.DELETE("/api/v1/fetch-places/{id}", { params: { path: { id } } })),
    onSuccess: renew,
  });
  const limit = useMutation({
    mutationFn: (bytes_per_s: number) => take(api.PUT("/api/v1/fetch-places", { body: { bytes_per_s } })),
    onSuccess: renew,
  });
  if (!data) return null;
  return (
    <Section title="Places payloads are fetched from" gap={0.75} size="small">
      <Text tone="quiet">
        First where its catalog says, then these. One that sends something else than the catalog says is put
        aside.
      </Text>
      <Block as="ul" aria-label="Places" m={0} p={0} plain>
        {data.places.map((p) => (
          <Block as="li" key={p.id} ruled py={0.5} breaks>
            <Mono>{p.base.replace(/^https:\/\//, "")}</Mono> {p.aside && <Tag tone="deep">put aside</Tag>}
            <Text tone="quiet">
              {p.answered_at ? `Answered ${ago(p.answered_at, now)}` : "Never asked yet"}
              {p.proxy && `, through ${p.proxy}`}, named by {p.added_by}.
            </Text>
            {p.aside && (
              <Notice title={`It lied ${p.aside_at ? ago(p.aside_at, now) : ""}`}>
                {p.aside}
                <Box>
                  <Act takes="keep" variant="outlined" onClick={() => trust.mutate(p.id)}>
                    Trust it again
                  </Act>
                </Box>
              </Notice>
            )}
            <Act
              takes="keep"
              variant="text"
              aria-label={`Look no more at ${p.base}`}
              onClick={() => drop.mutate(p.id)}
              size="inline"
              color="quiet"
            >
              look there no more
            </Act>
          </Block>
        ))}
      </Block>
      <Stack
        as="form"
        aria-label="New place"
        onSubmit={(e) => {
          e.preventDefault();
          add.mutate();
        }}
        gap={0.75}
      >
        <Field
          field="base"
          refused={add.error}
          label="https address or folder, payloads below it"
          value={told.base}
          onChange={(e) => tell({ ...told, base: e.target.value })}
        />
        {told.base.startsWith("https") && (
          <Field
            field="proxy"
            refused={add.error}
            label="Proxy (http://host:port), if any"
            value={told.proxy}
            onChange={(e) => tell({ ...told, proxy: e.target.value })}
          />
        )}
        <ActionBar>
          <Act
            takes="keep"
            type="submit"
            variant="outlined"
            why={told.base ? null : "Say where first."}
            loading={add.isPending}
          >
            Add a place
          </Act>
          <Limit key={data.bytes_per_s} bytes={data.bytes_per_s} set={(bytes) => limit.mutate(bytes)} />
        </ActionBar>
      </Stack>
      <Unsaid title="Not added" error={add.error} fields={["base", "proxy"]} />
      <Unsaid title="Not changed" error={limit.error} fields={[]} />
    </Section>
  );
}

function Limit({ bytes, set }: { bytes: number; set: (bytes: number) => void }) {
  const [text, setText] = useState(bytes ? String(bytes / 1e6) : "");
  const done = () => {
    const next = Math.round(Number(text || 0) * 1e6);
    if (Number.isFinite(next) && next >= 0 && next !== bytes) set(next);
  };
  return (
    <TextField
      size="small"
      label="At most MB a second"
      placeholder="no limit"
      value={text}
      onChange={(e) => setText(e.target.value)}
      onBlur={done}
      onKeyDown={(e) => e.key === "Enter" && (e.preventDefault(), done())}
      sx={{ ml: "auto", width: 160 }}
      slotProps={{ inputLabel: { shrink: true } }}
    />
  );
}

function Store() {
  const queries = useQueryClient();
  const { data } = useQuery(storeQuery);
  const renew = () => queries.invalidateQueries({ queryKey: ["repositories", "store"] });
  const look = useMutation({ meta: ALOUD, mutationFn: () => take(api.POST("/api/v1/store")) });
  const clear = useMutation({ mutationFn: () => take(api.POST("/api/v1/store/clear")), onSuccess: renew });
  if (!data) return null;
  return (
    <Section title="Store" gap={0.75} size="small">
      <Text tone="quiet">
        {count(data.files, "file")}, <Mono>{data.bytes ? size(data.bytes) : "0 kB"}</Mono>;{" "}
        <Mono>{size(data.free)}</Mono> free.{" "}
        {data.loose_files > 0 ? (
          <>
            {count(data.loose_files, "file")}, <Mono>{size(data.loose_bytes)}</Mono>, that no repository
            needs.
          </>
        ) : (
          "All of it is needed."
        )}
      </Text>
      <ActionBar>
        <Act takes="plan" variant="outlined" onClick={() => look.mutate()} loading={look.isPending}>
          Look it over
        </Act>
        <Act
          takes="keep"
          variant="outlined"
          why={data.loose_files ? null : "Nothing in it is loose."}
          onClick={() => clear.mutate()}
          loading={clear.isPending}
        >
          Throw away what is loose
        </Act>
      </ActionBar>
      {clear.error && <Notice>{clear.error.message}</Notice>}
      {clear.data && (
        <Text role="status" tone="done">
          {count(clear.data.files, "file")}, {size(clear.data.bytes)} thrown away.
        </Text>
      )}
    </Section>
  );
}

function WayBack() {
  const [told, tell] = useState({ server: "", slot: "" });
  const [asked, ask] = useState({ server: "", slot: "" });
  const { data, error } = useQuery({
    ...waysBack(asked.server, asked.slot),
    enabled: Boolean(asked.server && asked.slot),
  });
  return (
    <Section title="Who holds a way back?" gap={0.75} size="small">
      <Row
        as="form"
        aria-label="Way back of"
        onSubmit={(e) => {
          e.preventDefault();
          ask(told);
        }}
        gap={1}
      >
        <TextField
          size="small"
          label="Server"
          value={told.server}
          onChange={(e) => tell({ ...told, server: e.target.value.trim() })}
        />
        <TextField
          size="small"
          label="Component"
          value={told.slot}
          onChange={(e) => tell({ ...told, slot: e.target.value.trim() })}
        />
        <Act
          type="submit"
          variant="outlined"
          why={told.server && told.slot ? null : "Name a server and a component, such as surge-01 and bios."}
        >
          Find
        </Act>
      </Row>
      {error && <Notice>{error.message}</Notice>}
      {data && (
        <Box role="status" aria-label="Ways back">
          <strong>{data.name}</strong> at <Mono>{data.installed ?? "unread"}</Mono>
          {data.ways.length === 0 && ": no way back is held here."}
          <Block as="ul" m={0} p={0} plain>
            {data.ways.map((w) => (
              <Block as="li" key={w.version} ruled py={0.25} tone={w.barred ? "quiet" : "plain"}>
                <Mono>{w.version}</Mono> {w.bank && "in its second bank"}
                {w.bank && w.repositories.length > 0 && ", "}
                {w.repositories.map((r) => `${r.name} (edition ${r.edition})`).join(", ")}
                {w.barred && <Text tone="deep">barred: {w.barred}</Text>}
              </Block>
            ))}
          </Block>
        </Box>
      )}
    </Section>
  );
}
