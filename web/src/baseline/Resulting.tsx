import Box from "@mui/material/Box";

import type { Baseline, BaselineLine } from "../api/client";
import { count, foldNames, month } from "../shell/format";
import { Table } from "../ui/Table";
import { Tag } from "../ui/Tag";
import { Mono } from "../ui/text";
import { Glyph } from "../waterline/Glyph";
import { Block, Row, Stack, Text } from "../ui/layout";
import { TextLink } from "../ui/links";
import { Section } from "../ui/Section";

const key = (l: BaselineLine): string => `${l.product} ${l.target} ${l.held} ${l.rule}`;

/** What every product should run, and which rule made it so; lines a draft makes are marked. */
export function Resulting({ lines, before }: { lines: BaselineLine[]; before: BaselineLine[] | null }) {
  const known = new Set((before ?? lines).map((l) => `${l.product} ${l.target} ${l.held}`));
  return (
    <Table aria-label="Resulting baseline" framed dense>
      <thead>
        <tr>
          <th scope="col">Product</th>
          <th scope="col">Baseline</th>
          <th scope="col">Released</th>
          <th scope="col">From issue</th>
          <th scope="col" style={{ minWidth: 180 }}>
            Rule and reason
          </th>
          <th scope="col" className="n">
            Fitted
          </th>
        </tr>
      </thead>
      <tbody>
        {lines.map((l) => (
          <Box
            component="tr"
            key={key(l)}
            className={known.has(`${l.product} ${l.target} ${l.held}`) ? undefined : "fresh"}
          >
            <td>
              <Row gap={1.25}>
                <Block pt={0.4}>
                  <Glyph verdict={l.held ? "held" : l.target ? "level" : "unordered"} />
                </Block>
                <Text strong noWrap>
                  <TextLink to={`/drift?product=${l.product}`}>{l.name}</TextLink>
                </Text>
              </Row>
            </td>
            <td>
              <Mono>{l.held ? "held" : (l.target ?? "none")}</Mono>
              {l.newer.length > 0 && (
                <Text size="fine" tone="quiet">
                  {l.newer.join(", ")} not chosen
                </Text>
              )}
            </td>
            <td style={{ whiteSpace: "nowrap" }}>
              {l.released ? month(l.released) : "–"}{" "}
              {l.importance === "security" && <Tag tone="deep">security</Tag>}
            </td>
            <td>
              {l.issues.map((i, n) => (
                <span key={`${i.maker} ${i.name}`} style={{ whiteSpace: "nowrap" }}>
                  {i.name}
                  {n < l.issues.length - 1 ? "," : ""}{" "}
                </span>
              ))}
              {l.issues.some((i) => !i.signed_by) && <Tag tone="pending">unsigned</Tag>}
            </td>
            <td>{l.rule === null ? l.why : `${l.rule + 1}: ${l.why}`}</td>
            <td className="n" title={foldNames(l.servers)}>
              {l.fitted}
            </td>
          </Box>
        ))}
      </tbody>
    </Table>
  );
}

/** What no catalog lists, and versions that two issues tell differently. */
export function Gaps({ data }: { data: Baseline }) {
  if (!data.unlisted.length && !data.conflicts.length) return null;
  return (
    <Stack mt={2} gap={1.5} size="body">
      {data.conflicts.length > 0 && (
        <Section title="One version, two contents" level={3}>
          <Block as="ul" m={0} pl={2.25}>
            {data.conflicts.map((c) => (
              <li key={`${c.product} ${c.version} ${c.newer}`}>
                <strong>
                  {c.name} <Mono>{c.version}</Mono>
                </strong>
                : {c.older} and {c.newer} differ in {c.fields.join(", ").replaceAll("_", " ")}. Ask the maker
                which is right; each model takes what the issue it follows says.
              </li>
            ))}
          </Block>
        </Section>
      )}
      {data.unlisted.length > 0 && (
        <Section title="Fitted here, in no catalog" level={3}>
          <Block as="ul" m={0} pl={2.25}>
            {data.unlisted.map((u) => (
              <li key={`${u.name} ${u.software_id} ${u.model} ${u.reason}`}>
                <strong>{u.name}</strong> {u.software_id && <Mono dim>{u.software_id}</Mono>} in {u.model}:{" "}
                {count(u.components, "component")}, {foldNames(u.servers)}.{" "}
                <Text as="span" tone="quiet">
                  {u.reason}
                </Text>
              </li>
            ))}
          </Block>
        </Section>
      )}
    </Stack>
  );
}
