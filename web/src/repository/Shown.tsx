import Box from "@mui/material/Box";
import LinearProgress from "@mui/material/LinearProgress";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Repository, type RepositoryHead, take, type Work } from "../api/client";
import { work as workQuery } from "../api/queries";
import { stale as staleQuery } from "./queries";
import { count, fewNames, size, someNames } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { useSiteNow } from "../shell/time";
import { progress } from "../shell/WorkBar";
import { ActionBar } from "../ui/ActionBar";
import { PackingList } from "./PackingList";
import { Scale } from "./Scale";
import { Block, Row, Text } from "../ui/layout";
import { Press } from "../ui/Press";

const TONE = {
  packing: "water",
  signing: "pending",
  sealed: "done",
  waiting: "pending",
  incomplete: "deep",
} as const;
const WORD = {
  packing: "packing",
  signing: "waits for signatures",
  sealed: "sealed",
  waiting: "waits for media",
  incomplete: "incomplete",
} as const;

/** The state of a repository in one word. */
export const State = ({ repository: r }: { repository: RepositoryHead }) => (
  <>
    <Tag tone={TONE[r.state]}>{WORD[r.state]}</Tag>
    {r.ends === "soon" && (
      <>
        {" "}
        <Tag tone="pending">seal ends soon</Tag>
      </>
    )}
    {r.ends === "over" && (
      <>
        {" "}
        <Tag tone="deep">seal has ended</Tag>
      </>
    )}
  </>
);

/** One repository: what is in it, why, and what it lacks by today. */
export function Shown({ repository: r, show }: { repository: Repository; show: (id: number) => void }) {
  const filled = Array.from({ length: r.media }, (_, n) =>
    r.lines.filter((l) => l.medium === n + 1).reduce((sum, l) => sum + l.size, 0),
  );
  return (
    <>
      <Row gap={1.25} align="baseline" wrap>
        <Title>{r.name}</Title>
        <Text as="span" tone="quiet">
          edition {r.edition}
        </Text>
        <State repository={r} />
      </Row>
      <Whom repository={r} />
      {r.message && (
        <Block my={1}>
          <Notice title={r.state === "incomplete" ? "Not sealed" : "Mark this"}>{r.message}</Notice>
        </Block>
      )}
      {r.state === "waiting" && (
        <Block my={1}>
          <Notice title="Not whole yet">
            {count(r.waiting.length, "payload")} lie on media that were not brought yet (
            {[...new Set(r.lines.filter((l) => l.state === "elsewhere").map((l) => l.medium))]
              .map((m) => `medium ${m} of ${r.media}`)
              .join(", ")}
            ). Carry those in as well.
          </Notice>
        </Block>
      )}
      <Text tone="quiet" mb={0.75} mt={0.5}>
        {count(r.lines.length, "payload")}, <Mono>{size(r.bytes)}</Mono>, each stored once however many
        servers and repositories need it
        {r.boots && "; with the system by which its discs boot"}
        {r.left_out.length > 0 && `; ${count(r.left_out.length, "payload")} left out`}
      </Text>
      <Scale lines={r.lines} capacity={r.capacity} filled={filled} />
      <UnderWay id={r.id} />
      {r.state !== "packing" && <Today repository={r} show={show} />}
      <PackingList lines={r.lines} media={r.media} />
    </>
  );
}

const WORDS: Partial<Record<Work["kind"], string>> = {
  pack: "Fetching",
  "write-out": "Writing out",
  check: "Checking",
};

/** Long work on this repository, where the person is, with bytes and time left. */
function UnderWay({ id }: { id: number }) {
  const { data = [] } = useQuery(workQuery);
  const now = useSiteNow();
  const mine = data.filter(
    (w) =>
      (w.state === "running" || w.state === "asked") &&
      WORDS[w.kind] &&
      (w.subject as { repository?: number }).repository === id,
  );
  return (
    <>
      {mine.map((w) => {
        const { part, told } = progress(w, now);
        return (
          <Text key={w.id} mb={1.25} size="body">
            <strong>{WORDS[w.kind]}</strong>: <Mono>{told}</Mono>
            <LinearProgress variant="determinate" aria-label={w.title} value={100 * part} sx={{ mt: 0.5 }} />
          </Text>
        );
      })}
    </>
  );
}

function Whom({ repository: r }: { repository: Repository }) {
  const [open, setOpen] = useState(false);
  return (
    <Text tone="quiet" mt={0.25}>
      by revision {r.revision} for{" "}
      <Press type="button" aria-expanded={open} onClick={() => setOpen(!open)}>
        {count(r.servers.length, "server")}
      </Press>
      {r.made_by && `, packed by ${r.made_by}`}
      {r.carried_from && `, carried in as ${r.carried_from}`}
      {open && `: ${someNames(r.servers)}`}
    </Text>
  );
}

/** What a repository lacks for its servers as they are today, and the next edition. */
function Today({ repository: r, show }: { repository: Repository; show: (id: number) => void }) {
  const { data } = useQuery(staleQuery(r.id));
  const again = useMutation({
    mutationFn: (same: boolean) =>
      take(api.POST("/api/v1/repositories/{id}/again", { params: { path: { id: r.id } }, body: { same } })),
    onSuccess: (next) => show(next.id),
  });
  if (!data) return null;
  const isStale = data.servers.length > 0;
  const foreign = data.unknown.length === r.servers.length;
  return (
    <Row
      as="section"
      aria-label="By today"
      framed={isStale ? "pending" : "rule"}
      {...(isStale ? { ground: "pending" as const } : {})}
      px={1.5}
      py={0.75}
      mb={1.5}
      gap={1.5}
      align="center"
      wrap
    >
      <Box sx={{ flex: 1, minWidth: 260 }}>
        {foreign ? (
          "None of its servers is known here."
        ) : isStale ? (
          <>
            <strong>Stale for {count(data.servers.length, "server")}</strong> ({fewNames(data.servers)}):
            lacks{" "}
            {data.lines
              .slice(0, 4)
              .map((l) => `${l.name} ${l.version}`)
              .join(", ")}
            {data.lines.length > 4 && ` and ${data.lines.length - 4} more`}.
          </>
        ) : (
          "Holds all that its servers need today."
        )}
        {!foreign &&
          data.not_needed > 0 &&
          ` ${count(data.not_needed, "payload")} in it ${data.not_needed === 1 ? "is" : "are"} needed no more.`}
      </Box>
      {!r.carried_from && (
        <ActionBar>
          <Act
            takes="plan"
            variant={isStale ? "contained" : "outlined"}
            onClick={() => again.mutate(false)}
            loading={again.isPending}
          >
            Pack the next edition
          </Act>
          {r.state === "sealed" && (
            <Act takes="plan" variant="outlined" onClick={() => again.mutate(true)}>
              Only seal it anew
            </Act>
          )}
        </ActionBar>
      )}
      {again.error && <Notice>{again.error.message}</Notice>}
    </Row>
  );
}
