import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";

import { contents } from "./queries";
import { count, size } from "../shell/format";
import { Notice } from "../ui/Notice";
import { Table } from "../ui/Table";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { Block, Row, Text } from "../ui/layout";

const TONE = { added: "done", dropped: "deep", "other bytes": "pending" } as const;

/** What changed from one repository to another. */
export function Compare({ one, other, close }: { one: number; other: number; close: () => void }) {
  const { data, error } = useQuery(contents(one, other));
  if (error) return <Notice>{error.message}</Notice>;
  if (!data) return null;
  return (
    <>
      <Row gap={1.5} align="baseline" mb={0.5} wrap>
        <Title>
          From {data.one} to {data.other}
        </Title>
        <Block ml="auto">
          <Button variant="outlined" onClick={close}>
            Back to the list
          </Button>
        </Block>
      </Row>
      <Text role="status" tone="quiet" mb={1.25}>
        {data.changes.length === 0 ? (
          "They hold the same payloads."
        ) : (
          <>
            {count(data.changes.length, "payload")} differ, {count(data.same, "payload")} are the same; to
            bring the first up to the second, <Mono>{size(data.added_bytes)}</Mono> have to be carried.
          </>
        )}
      </Text>
      {data.changes.length > 0 && (
        <Table aria-label="Differences" framed>
          <thead>
            <tr>
              <th scope="col">Change</th>
              <th scope="col">Product</th>
              <th scope="col">Version</th>
              <th scope="col" className="n">
                Size
              </th>
            </tr>
          </thead>
          <tbody>
            {data.changes.map((c) => (
              <tr key={`${c.change} ${c.name} ${c.version}`}>
                <td>
                  <Tag tone={TONE[c.change]}>{c.change}</Tag>
                </td>
                <td>{c.name}</td>
                <td>
                  <Mono>{c.version}</Mono>
                </td>
                <td className="n">{size(c.size)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </>
  );
}
