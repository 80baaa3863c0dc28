import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { type Advisory, type Concern, sendFile } from "../api/client";
import { advisories as advisoriesQuery } from "../api/queries";
import { Refusal } from "../shell/Refusal";
import { FileButton } from "../shell/FileButton";
import { count, foldNames } from "../shell/format";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { ink } from "../theme/theme";

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
    <Box sx={{ display: "grid", gap: 1.25, alignContent: "start" }}>
      <Title level={2}>Advisories</Title>
      <Box sx={{ color: "text.secondary", fontSize: 13 }}>
        Security advisories (CSAF 2.0) against what runs here now.
      </Box>
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
        <Box role="status" sx={{ color: ink("done"), fontSize: 13 }}>
          {bring.data
            .map((a) => `${a.id} ${a.state === "known" ? "was here already" : "brought in"}`)
            .join(", ")}
          .
        </Box>
      )}
      <Box component="ul" aria-label="Advisories" sx={{ m: 0, p: 0, listStyle: "none" }}>
        {(data ?? []).map((a) => (
          <Entry
            key={`${a.publisher} ${a.id}`}
            advisory={a}
            shown={shown === a.id}
            narrow={() => narrow(a.id)}
          />
        ))}
      </Box>
    </Box>
  );
}

function Entry({ advisory: a, shown, narrow }: { advisory: Advisory; shown: boolean; narrow: () => void }) {
  const open = a.concerns.filter((c) => !FINE.has(c.status));
  return (
    <Box
      component="li"
      aria-label={a.id}
      sx={{ borderTop: `1px solid ${ink("rule")}`, py: 0.9, fontSize: 13.5 }}
    >
      <Box sx={{ display: "flex", gap: 1, alignItems: "baseline", flexWrap: "wrap" }}>
        <Mono>
          <strong>{a.id}</strong>
        </Mono>
        {a.score !== null && <Tag tone={a.affected ? "deep" : "rule"}>score {a.score}</Tag>}
      </Box>
      <Box>{a.title}</Box>
      {a.reason ? (
        <Box sx={{ color: "text.secondary" }}>
          {a.undecided ? (
            <>
              <Tag tone="pending">can&rsquo;t be decided</Tag> Whether it applies:{" "}
            </>
          ) : (
            "Does not apply: "
          )}
          {a.reason}.
        </Box>
      ) : (
        <>
          <Box component="ul" sx={{ m: 0, mt: 0.25, pl: 0, listStyle: "none", color: "text.secondary" }}>
            {open.map((c) => (
              <li key={`${c.product} ${c.version}`}>
                <Says concern={c} />
              </li>
            ))}
          </Box>
          {a.affected > 0 ? (
            <Button
              variant="text"
              sx={{ px: 0, py: 0, color: ink("water") }}
              aria-pressed={shown}
              onClick={narrow}
            >
              {shown ? "Shown" : "Show"}: {count(a.affected, "server")} affected
            </Button>
          ) : (
            <Box sx={{ color: ink("done") }}>Nothing here is affected any more.</Box>
          )}
        </>
      )}
      <Box
        component="details"
        sx={{ fontSize: 12.5, color: "text.secondary", "& summary": { cursor: "pointer" } }}
      >
        <summary>
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
                <Box
                  component="a"
                  href={r.url}
                  target="_blank"
                  rel="noreferrer noopener"
                  sx={{ color: ink("water") }}
                >
                  {r.url}
                </Box>
              </>
            )}
          </Box>
        ))}
      </Box>
    </Box>
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
