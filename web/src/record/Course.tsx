import type { RecordServer } from "../api/client";
import { clock, duration } from "../shell/format";
import { Block, Text } from "../ui/layout";
import { Mono } from "../ui/text";

type Round = RecordServer["rounds"][number];

/** How it went on one server, round by round; what was tried when something failed stands open. */
export function Course({ server: s }: { server: RecordServer }) {
  if (!s.rounds.length && !s.outside.length) return null;
  return (
    <Block mt={0.5}>
      {s.remedies.map((remedy) => (
        <Text key={remedy.at} size="note">
          Remedy{remedy.by && `, as ${remedy.by} said`}: {remedy.remedy}; {remedy.result || "not known yet"}.
        </Text>
      ))}
      <details className="no-print">
        <summary>
          How it went: {duration(s.took_seconds)}
          {s.planned_seconds > 0 && `, planned ${duration(s.planned_seconds)}`}
        </summary>
        <Block as="ol" m={0} pl={2.5}>
          {s.rounds.map((round, at) => (
            <li key={at}>
              <RoundLines round={round} />
            </li>
          ))}
        </Block>
        {s.outside.map((one) => (
          <Text key={one.at} size="note" breaks>
            {clock(new Date(one.at), true)} {one.what}
            {one.by ? `: done by ${one.by}` : ""}
            {one.note && `: ${one.note}`}
          </Text>
        ))}
      </details>
    </Block>
  );
}

function RoundLines({ round }: { round: Round }) {
  return (
    <>
      {round.writes.map((w) => (
        <Text key={w.began} size="note" breaks tone={w.result === "written" ? "plain" : "deep"}>
          {clock(new Date(w.began), true)} {w.slot}{" "}
          <Mono>
            {w.source} → {w.to}
          </Mono>
          , {w.way}, {w.result}
          {w.ended && ` in ${duration((Date.parse(w.ended) - Date.parse(w.began)) / 1000)}`}
          {w.detail && `: ${w.detail}`}
        </Text>
      ))}
      {round.resets.map((r) => (
        <Text key={r.began} size="note">
          {clock(new Date(r.began), true)} {r.kind}
          {r.acted_by && `, known by ${r.acted_by}`}
          {r.back
            ? `; back after ${duration((Date.parse(r.back) - Date.parse(r.began)) / 1000)}`
            : "; never seen back"}
        </Text>
      ))}
      {round.confirmed.length > 0 && (
        <Text size="note" tone="quiet">
          confirmed by reading: {round.confirmed.join(", ")}
        </Text>
      )}
    </>
  );
}
