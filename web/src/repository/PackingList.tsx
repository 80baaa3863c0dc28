import Box from "@mui/material/Box";

import type { Line, Trim } from "../api/client";
import { foldNames, size, someNames } from "../shell/format";
import { Table } from "../ui/Table";
import { Tag } from "../ui/Tag";
import { Mono, Spoken } from "../ui/text";
import { KINDS } from "../waterline/words";
import { Row, Text } from "../ui/layout";
import { TextLink } from "../ui/links";
import { Press } from "../ui/Press";
import { Progress } from "../ui/Progress";

const REASON = { target: "water", "must stop": "rule", "way back": "pending" } as const;

interface Props {
  lines: Line[];
  media: number;
  places?: Record<string, number>;
  press?: (trim: Trim) => void;
}

/** Every payload with why it is there, and how far it is. */
export function PackingList({ lines, media, places, press }: Props) {
  return (
    <Table aria-label="Packing list" framed>
      <thead>
        <tr>
          <th scope="col">Product</th>
          <th scope="col">Version</th>
          <th scope="col">Why it is packed</th>
          <th scope="col" className="n">
            Size
          </th>
          <th scope="col" className="n">
            Servers
          </th>
          {media > 1 && (
            <th scope="col" className="n">
              Medium
            </th>
          )}
          <th scope="col">State</th>
          {press && (
            <th scope="col">
              <Spoken>Trim</Spoken>
            </th>
          )}
        </tr>
      </thead>
      <tbody>
        {lines.map((l) => (
          <LineRow
            key={`${l.product} ${l.version}`}
            line={l}
            medium={media > 1 ? (places?.[`${l.product} ${l.version}`] ?? l.medium) : null}
            press={press}
          />
        ))}
      </tbody>
    </Table>
  );
}

function LineRow({
  line: l,
  medium,
  press,
}: {
  line: Line;
  medium: number | null;
  press: ((trim: Trim) => void) | undefined;
}) {
  const out = l.state === "left out";
  const own: Trim = { by: "payload", value: `${l.product} ${l.version}` };
  return (
    <tr className={out ? "quiet" : undefined}>
      <td>
        <TextLink to={`/drift?product=${l.product}`}>{out ? l.name : <strong>{l.name}</strong>}</TextLink>{" "}
        {l.unsigned && <Tag tone="pending">unsigned catalog</Tag>}{" "}
        {l.form === "opaque" && <Tag tone="pending">opaque file</Tag>}
      </td>
      <td>
        <Mono>{l.version}</Mono>
      </td>
      <td>
        <Row gap={0.5} wrap>
          {out
            ? l.trimmed.map((t) => <Tag key={`${t.by} ${t.value}`}>left out by {byWord(t)}</Tag>)
            : l.reasons.map((r) => (
                <Tag key={r} tone={REASON[r as keyof typeof REASON] ?? "rule"}>
                  {r}
                </Tag>
              ))}
        </Row>
      </td>
      <td className="n">{size(l.size)}</td>
      <td
        className="n"
        title={someNames(l.servers)}
        aria-label={`${l.servers.length}: ${foldNames(l.servers)}`}
      >
        {l.servers.length}
      </td>
      {medium !== null && <td className="n">{out ? "–" : medium}</td>}
      <td>
        <LineState line={l} />
      </td>
      {press && (
        <td>
          <TrimButton
            line={l}
            press={() =>
              out && !l.trimmed.some((t) => t.by === "payload") ? l.trimmed.forEach(press) : press(own)
            }
          />
        </td>
      )}
    </tr>
  );
}

const byWord = (t: Trim): string =>
  t.by === "kind"
    ? (KINDS[t.value] ?? t.value)
    : t.by === "rule"
      ? `rule ${Number(t.value) + 1}`
      : t.by === "reason"
        ? "ways back"
        : t.by === "payload"
          ? "itself"
          : t.by === "product"
            ? "product"
            : t.value;

function TrimButton({ line: l, press }: { line: Line; press: () => void }) {
  const word = l.state === "left out" ? "pack it" : "leave out";
  return (
    <Press type="button" aria-label={`${word}: ${l.name} ${l.version}`} onClick={press}>
      {word}
    </Press>
  );
}

function LineState({ line: l }: { line: Line }) {
  if (l.state === "refused")
    return (
      <Text tone="deep" maxWidth={320} breaks>
        refused: {l.message}
      </Text>
    );
  if (l.state === "elsewhere") return <Text tone="pending">on medium {l.medium}, not here yet</Text>;
  if (l.state === "left out") return <>left out</>;
  if (l.state === "packed")
    return (
      <Box
        component="span"
        title={
          l.signer
            ? `Signed by ${l.signer}${l.generation ? `, generation ${l.generation}` : ""}`
            : "Checked against its catalog’s checksum"
        }
      >
        checked{l.signer && ", signed"}
      </Box>
    );
  if (l.state !== "fetching") return <>–</>;
  const part = Math.min(100, Math.round((100 * l.bytes) / Math.max(1, l.size)));
  return (
    <Row align="center" gap={1}>
      <Progress part={part / 100} label={`Fetching ${l.name} ${l.version}`} />
      <Mono>{part} %</Mono>
    </Row>
  );
}
