import Box from "@mui/material/Box";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type Advisory, type Concern, sendFile } from "../api/client";
import { advisories as advisoriesQuery } from "../api/queries";
import { Refusal } from "../shell/Refusal";
import { FileButton } from "../shell/FileButton";
import { count, foldNames } from "../shell/format";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Press } from "../ui/Press";

const FINE = new Set(["fixed", "not affected"]);

/** Security advisories: who runs something affected, and which release ends it. */
export function Advisories({ narrow, shown }: { narrow: (id: string) => void; shown: string | undefined }) {
  const { data, error } = useQuery(advisoriesQuery);
  const queries = useQueryClient();
  const bring = useMutation({
    mutationFn: async (files: File[]) => {
      const told: { id: string; state: string }[] = [];
      for (const file of files)
        told.push(await sendFile<{ id: string; state: string }>("/api/v1/advisories", file));
      return told;
    },
    onSettled: () => queries.invalidateQueries({ queryKey: ["advisories"] }),
  });
  if (error) return <Notice>{error.message}</Notice>;
  return (
    <Stack gap={1.25} start>
      <Title level={2}>Advisories</Title>
      <Text tone="quiet" size="small">
        Security advisories (CSAF 2.0) against what runs here now.
      </Text>
      <Box>
        <FileButton
          takes="keep"
          label="Bring in advisories"
          name="Advisory files"
          accept=".json,.gz,.zst"
          many
          pending={bring.isPending}
          chosen={(files) => bring.mutate(files)}
        />
      </Box>
      {bring.error && <Refusal error={bring.error} />}
      {bring.data && (
        <Text role="status" tone="done" size="small">
          {bring.data
            .map((a) => `${a.id} ${a.state === "known" ? "was here already" : "brought in"}`)
            .join(", ")}
          .
        </Text>
      )}
      <Block as="ul" aria-label="Advisories" m={0} p={0} plain>
        {(data ?? []).map((a) => (
          <Entry
            key={`${a.publisher} ${a.id}`}
            advisory={a}
            shown={shown === a.id}
            narrow={() => narrow(a.id)}
          />
        ))}
      </Block>
    </Stack>
  );
}

function Entry({ advisory: a, shown, narrow }: { advisory: Advisory; shown: boolean; narrow: () => void }) {
  const open = a.concerns.filter((c) => !FINE.has(c.status));
  return (
    <Text as="li" aria-label={a.id} ruled py={0.9} size="body">
      <Row gap={1} align="baseline" wrap>
        <Mono>
          <strong>{a.id}</strong>
        </Mono>
        {a.score !== null && <Tag tone={a.affected ? "deep" : "rule"}>score {a.score}</Tag>}
      </Row>
      <Box>{a.title}</Box>
      {a.reason ? (
        <Text tone="quiet">
          {a.undecided ? (
            <>
              <Tag tone="pending">can&rsquo;t be decided</Tag> Whether it applies:{" "}
            </>
          ) : (
            "Does not apply: "
          )}
          {a.reason}.
        </Text>
      ) : (
        <>
          <Text as="ul" m={0} mt={0.25} pl={0} plain tone="quiet">
            {open.map((c) => (
              <li key={`${c.product} ${c.version}`}>
                <Says concern={c} />
              </li>
            ))}
          </Text>
          {a.affected > 0 ? (
            <Press type="button" aria-pressed={shown} onClick={narrow}>
              {shown ? "Shown" : "Show"}: {count(a.affected, "server")} affected
            </Press>
          ) : (
            <Text tone="done">Nothing here is affected any more.</Text>
          )}
        </>
      )}
      <Text as="details" size="note" tone="quiet">
        <summary style={{ cursor: "pointer" }}>
          {a.publisher}, {a.released.slice(0, 10)}
          {a.tlp && `, TLP:${a.tlp}`}
        </summary>
        {a.notes && <Box>{a.notes}</Box>}
        {a.remedies.map((r) => (
          <Box key={r.details}>
            {r.category}: {r.details}
            {r.restart && ` Takes a restart ${r.restart}.`}
            {r.url && (
              <>
                {" "}
                <Box component="a" href={r.url} target="_blank" rel="noreferrer noopener" color="secondary">
                  {r.url}
                </Box>
              </>
            )}
          </Box>
        ))}
      </Text>
    </Text>
  );
}

function Says({ concern: c }: { concern: Concern }) {
  const ends = c.ends ? (
    <>
      ; <Mono>{c.ends}</Mono> ends it{c.within ? "" : ", beyond the baseline"}
    </>
  ) : (
    "; no release at hand ends it"
  );
  return (
    <>
      {c.name} <Mono>{c.version}</Mono>:{" "}
      {c.status === "unknown" ? "can’t be told" : c.status === "open" ? "under investigation" : "affected"},{" "}
      {foldNames(c.servers)}
      {ends}
    </>
  );
}
