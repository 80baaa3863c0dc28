// The servers of a run on record: before and after, what was done, what was tried, and the way back of each update.
import { useMutation } from "@tanstack/react-query";
import { useNavigate } from "react-router";

import { api, type RecordServer, type RunRecord, take } from "../api/client";
import { duration } from "../shell/format";
import { Act } from "../ui/Act";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Table } from "../ui/Table";
import { Tag, type Tone } from "../ui/Tag";
import { Mono } from "../ui/text";
import { GlyphRow } from "../waterline/GlyphRow";
import { Course } from "./Course";

/** Every server of a run, a row each. */
export function Servers({ data }: { data: RunRecord }) {
  return (
    <Table aria-label="Before and after" framed>
      <thead>
        <tr>
          <th scope="col">Server</th>
          <th scope="col">Before</th>
          <th scope="col">After</th>
          <th scope="col">What was done, and its way back</th>
          <th scope="col" className="n">
            Resets
          </th>
          <th scope="col" className="n">
            Away
          </th>
          <th scope="col">Compared</th>
        </tr>
      </thead>
      <tbody>
        {data.servers.map((s) => (
          <ServerRow key={s.server} run={data.id} server={s} />
        ))}
      </tbody>
    </Table>
  );
}

const toneOf = (ended: string): Tone => {
  if (!ended) return "rule";
  return ended === "failed" ? "deep" : ended === "waits for a reboot" ? "pending" : "done";
};

function ServerRow({ run, server: s }: { run: number; server: RecordServer }) {
  return (
    <tr>
      <td style={{ whiteSpace: "nowrap" }}>
        <strong>{s.server}</strong>
        <br />
        <Tag tone={toneOf(s.ended)}>{s.ended || "under way"}</Tag>
      </td>
      <td>
        <GlyphRow cells={s.before} />
      </td>
      <td>
        <GlyphRow cells={s.after} />
      </td>
      <td style={{ minWidth: 310 }}>
        <Done run={run} server={s} />
        <Course server={s} />
      </td>
      <td className="n">{s.resets}</td>
      <td className="n">{s.away_seconds ? duration(s.away_seconds) : "–"}</td>
      <td>
        {s.overrides.map((o) => (
          <Block key={o.check} maxWidth={260}>
            {o.check} check overridden: {o.reason}
          </Block>
        ))}
        <Compared server={s} />
        <Departures told={s.departures} />
      </td>
    </tr>
  );
}

/** What of a server is otherwise than before, by name. */
function Compared({ server: s }: { server: RecordServer }) {
  if (s.differences.length)
    return (
      <>
        {s.differences.map((difference) => (
          <Text key={difference} tone="deep" maxWidth={260}>
            {difference}
          </Text>
        ))}
      </>
    );
  if (!s.ended) return <>–</>;
  if (s.ended === "failed")
    return (
      <Text tone="deep" maxWidth={260}>
        {s.reason}
      </Text>
    );
  return (
    <>
      as it was
      {s.announced.length > 0 && (
        <Text tone="quiet" size="note" maxWidth={260}>
          announced: {s.announced.join(", ")}
        </Text>
      )}
    </>
  );
}

/** In what it went otherwise than planned. */
function Departures({ told }: { told: string[] }) {
  if (!told.length) return null;
  return (
    <Block mt={0.5} maxWidth={260}>
      <Text tone="quiet" size="note">
        Not as the sheet says
      </Text>
      {told.map((line) => (
        <Text key={line} size="note">
          {line}
        </Text>
      ))}
    </Block>
  );
}

function Done({ run, server: s }: { run: number; server: RecordServer }) {
  const navigate = useNavigate();
  const back = useMutation({
    mutationFn: (slot: string) =>
      take(
        api.POST("/api/v1/runs/{id}/take-back", {
          params: { path: { id: run } },
          body: { server: s.server, slot },
        }),
      ),
    onSuccess: (draft) => void navigate(`/run-sheet/${draft.id}`),
  });
  const goes = s.done.filter((d) => d.back_to);
  if (!s.done.length) return <>{s.reason || "nothing"}</>;
  return (
    <Stack gap={0.25}>
      {s.done.map((d) => (
        <Row key={d.slot} gap={1} align="center">
          <Block flex={1}>
            {d.slot}{" "}
            <Mono>
              {d.before} → {d.after}
            </Mono>
          </Block>
          <Act
            takes="run"
            className="no-print"
            variant="outlined"
            why={d.back_to ? null : `No way back: ${d.barred}`}
            aria-label={`${d.back_to ? `Back to ${d.back_to}` : "No way back"}: ${d.slot} of ${s.server}`}
            onClick={() => back.mutate(d.slot)}
            size="row"
            sx={{ width: 124 }}
          >
            {d.back_to ? `Back to ${d.back_to}` : "No way back"}
          </Act>
        </Row>
      ))}
      {goes.length > 1 && (
        <Block ml="auto">
          <Act
            takes="run"
            className="no-print"
            variant="outlined"
            aria-label={`All of it back: ${s.server}`}
            onClick={() => back.mutate("")}
            size="row"
            sx={{ width: 124 }}
          >
            All of it back
          </Act>
        </Block>
      )}
      {back.error && <Notice>{back.error.message}</Notice>}
    </Stack>
  );
}
