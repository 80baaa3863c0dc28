import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, type BroughtIn, type Issue, sendFile, type Source, take } from "../api/client";
import { site as siteQuery } from "../api/queries";
import { ALOUD } from "../api/refused";
import { keys as keysQuery, sources as sourcesQuery } from "./queries";
import { FileButton } from "../shell/FileButton";
import { ago, count, month } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono } from "../ui/text";
import { Refusal } from "../shell/Refusal";
import { ActionBar } from "../ui/ActionBar";
import { pairFiles } from "./pair-files";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Field, Unsaid } from "../ui/Field";
import { Section } from "../ui/Section";

/** Where catalogs come from, what is at hand, and whose signature counts. */
export function Sources({ issues }: { issues: Issue[] }) {
  return (
    <Stack gap={2}>
      <Places />
      <AtHand issues={issues} />
      <Keys />
    </Stack>
  );
}

function Places() {
  const { data = [] } = useQuery(sourcesQuery);
  const [adding, add] = useState(false);
  const look = useMutation({
    mutationFn: (ids: number[]) =>
      take(api.POST("/api/v1/catalog-sources/fetch", { body: { sources: ids } })),
  });
  return (
    <Section title="Sources">
      {data.length === 0 && (
        <Text tone="quiet" size="body">
          A source is a maker’s mirror or a folder on the machine Ordnung runs on. It is asked when you say
          so.
        </Text>
      )}
      <Block as="ul" aria-label="Sources" m={0} mt={0.75} p={0} plain>
        {data.map((s) => (
          <SourceLine key={s.id} source={s} look={() => look.mutate([s.id])} />
        ))}
      </Block>
      {look.error && <Notice>{look.error.message}</Notice>}
      <Row gap={1} mt={0.75}>
        {data.length > 0 && (
          <Act
            takes="plan"
            variant="contained"
            onClick={() => look.mutate(data.map((s) => s.id))}
            loading={look.isPending}
          >
            Look at all now
          </Act>
        )}
        {!adding && (
          <Act takes="keep" variant="outlined" onClick={() => add(true)}>
            Add a source
          </Act>
        )}
      </Row>
      {adding && <AddSource done={() => add(false)} />}
    </Section>
  );
}

function SourceLine({ source: s, look }: { source: Source; look: () => void }) {
  const queries = useQueryClient();
  const now = Date.parse(useQuery(siteQuery).data?.now ?? new Date().toISOString());
  const forget = useMutation({
    meta: ALOUD,
    mutationFn: () => take(api.DELETE("/api/v1/catalog-sources/{id}", { params: { path: { id: s.id } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["sources"] }),
  });
  return (
    <Text as="li" ruled py={0.75} size="small" breaks>
      <Mono>{s.address.replace(/^https:\/\//, "")}</Mono>
      <Text tone="quiet">
        {s.kind === "folder" ? "folder" : "mirror"}
        {s.trust && `, ${s.trust}`}
        {s.proxy && `, through ${s.proxy}`}.{" "}
        {s.answered_at ? `Answered ${ago(s.answered_at, now)}: ${s.said}.` : "Never asked yet."}
      </Text>
      {s.failure && (
        <Notice title={`Failed ${s.failed_at ? ago(s.failed_at, now) : ""}; what is here stays`}>
          {s.failure}
        </Notice>
      )}
      <Act takes="plan" variant="text" size="inline" color="secondary" sx={{ mr: 1.5 }} onClick={look}>
        Look now
      </Act>
      <Act takes="keep" variant="text" size="inline" color="quiet" onClick={() => forget.mutate()}>
        Forget it
      </Act>
    </Text>
  );
}

function AddSource({ done }: { done: () => void }) {
  const queries = useQueryClient();
  const [told, tell] = useState({ address: "", proxy: "", maker: "", tuf_root: "" });
  const set = (key: keyof typeof told) => (e: { target: { value: string } }) =>
    tell({ ...told, [key]: e.target.value });
  const add = useMutation({
    mutationFn: () => take(api.POST("/api/v1/catalog-sources", { body: told })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: ["sources"] });
      done();
    },
  });
  const isFolder = told.address.startsWith("/");
  return (
    <Stack
      as="form"
      aria-label="New source"
      onSubmit={(e) => {
        e.preventDefault();
        add.mutate();
      }}
      gap={1}
      mt={1.25}
    >
      <Field
        field="address"
        refused={add.error}
        autoFocus
        label="https address of an index or catalog, or a folder’s path"
        value={told.address}
        onChange={set("address")}
      />
      {isFolder ? (
        <Field
          field="maker"
          refused={add.error}
          label="Maker, if packages lie there"
          value={told.maker}
          onChange={set("maker")}
        />
      ) : (
        <Field
          field="proxy"
          refused={add.error}
          label="Proxy (http://host:port), if any"
          value={told.proxy}
          onChange={set("proxy")}
        />
      )}
      {!isFolder && (
        <FileButton
          label={told.tuf_root ? "Trusted TUF root chosen" : "Trusted TUF root, if the mirror has one"}
          accept=".json"
          chosen={([file]) => void file?.text().then((tuf_root) => tell({ ...told, tuf_root }))}
        />
      )}
      <Unsaid title="Not added" error={add.error} fields={["address", "maker", "proxy"]} />
      <ActionBar>
        <Button type="submit" variant="contained" loading={add.isPending}>
          Add it
        </Button>
        <Button variant="outlined" onClick={done}>
          Cancel
        </Button>
      </ActionBar>
    </Stack>
  );
}

function AtHand({ issues }: { issues: Issue[] }) {
  const queries = useQueryClient();
  const bring = useMutation({
    mutationFn: async (files: File[]) => {
      const came: BroughtIn[] = [];
      for (const [file, signature] of pairFiles(files))
        came.push(await sendFile<BroughtIn>("/api/v1/catalogs", file, signature ? { signature } : {}));
      return came;
    },
    onSettled: () => queries.invalidateQueries(),
  });
  return (
    <Section title="Catalogs at hand" gap={0.75}>
      <Box>
        <FileButton
          takes="keep"
          label="Bring in a catalog"
          name="Catalog file"
          accept=".json,.gz,.zst,.sig"
          many
          pending={bring.isPending}
          chosen={(files) => bring.mutate(files)}
        />
      </Box>
      {bring.error && <Refusal error={bring.error} />}
      {bring.data && (
        <Text role="status" tone="done">
          {bring.data
            .map(
              (c) =>
                `${c.maker} ${c.issue} ${c.state === "new" ? "brought in" : c.state === "signed" ? "is signed now" : "was here already"}${c.older_than ? `; ${c.older_than} is newer` : ""}`,
            )
            .join(". ")}
          .
        </Text>
      )}
      {issues.map((i) => (
        <Text key={`${i.catalog} ${i.issue}`} ruled pt={0.75} size="small">
          <strong>
            {i.maker} {i.issue}
          </strong>{" "}
          {!i.signed_by && <Tag tone="pending">unsigned</Tag>}
          <Text tone="quiet">
            {month(i.issued)}, {count(i.products, "product")}, {count(i.releases, "release")}.{" "}
            {i.models.length ? `Covers ${i.models.join(", ")}.` : "Covers every model."}{" "}
            {i.signed_by && `Signed by ${i.signed_by}.`}
          </Text>
        </Text>
      ))}
    </Section>
  );
}

function Keys() {
  const queries = useQueryClient();
  const { data = [] } = useQuery(keysQuery);
  const [told, tell] = useState({ maker: "", name: "", key: "" });
  const [adding, setAdding] = useState(false);
  const set = (k: keyof typeof told) => (e: { target: { value: string } }) =>
    tell({ ...told, [k]: e.target.value });
  const renew = () => queries.invalidateQueries({ queryKey: ["sources"] });
  const add = useMutation({
    mutationFn: () => take(api.POST("/api/v1/trusted-keys", { body: told })),
    onSuccess: () => {
      setAdding(false);
      tell({ maker: "", name: "", key: "" });
      return renew();
    },
  });
  const remove = useMutation({
    meta: ALOUD,
    mutationFn: (id: number) => take(api.DELETE("/api/v1/trusted-keys/{id}", { params: { path: { id } } })),
    onSuccess: renew,
  });
  return (
    <Section title="Keys this house trusts" gap={0.75} size="small">
      <Text tone="quiet">As long as a maker has a key here, nothing of that maker comes in unsigned.</Text>
      {data.map((k) => (
        <Block key={k.id} ruled pt={0.75} breaks>
          <strong>{k.maker}</strong>: {k.name} <Mono dim>{k.key.slice(0, 12)}…</Mono>{" "}
          <Text as="span" tone="quiet">
            by {k.added_by}
          </Text>{" "}
          <Act
            takes="approve"
            variant="text"
            size="inline"
            color="quiet"
            aria-label={`Trust ${k.name} no longer`}
            onClick={() => remove.mutate(k.id)}
          >
            trust no longer
          </Act>
        </Block>
      ))}
      {adding ? (
        <Stack
          as="form"
          aria-label="New key"
          onSubmit={(e) => {
            e.preventDefault();
            add.mutate();
          }}
          gap={1}
          mt={0.75}
        >
          <Field field="maker" refused={add.error} label="Maker" value={told.maker} onChange={set("maker")} />
          <Field
            field="name"
            refused={add.error}
            label="What to call the key"
            value={told.name}
            onChange={set("name")}
          />
          <Field
            field="key"
            refused={add.error}

            label="Ed25519 public key, hex or base64"
            value={told.key}
            onChange={set("key")}
          />
          <Unsaid error={add.error} fields={["maker", "name", "key"]} />
          <ActionBar>
            <Button type="submit" variant="contained" loading={add.isPending}>
              Trust it
            </Button>
            <Button variant="outlined" onClick={() => setAdding(false)}>
              Cancel
            </Button>
          </ActionBar>
        </Stack>
      ) : (
        <Box>
          <Act takes="approve" variant="outlined" onClick={() => setAdding(true)}>
            Trust a key
          </Act>
        </Box>
      )}
    </Section>
  );
}
