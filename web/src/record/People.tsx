import type { RunRecord } from "../api/client";
import { clock, day, fewNames } from "../shell/format";
import { Section } from "../ui/Section";
import { Table } from "../ui/Table";
import { Tag } from "../ui/Tag";

/** What people did to a run, and what was refused them, from the audit trail. */
export function People({ data }: { data: RunRecord }) {
  if (!data.people.length) return null;
  return (
    <Section title="What people did" mt={3}>
      <Table framed aria-label="What people did">
        <thead>
          <tr>
            <th scope="col">When</th>
            <th scope="col">Who</th>
            <th scope="col">What</th>
            <th scope="col">Servers</th>
            <th scope="col">Told with it</th>
          </tr>
        </thead>
        <tbody>
          {data.people.map((p, at) => (
            <tr key={at}>
              <td>
                {day(new Date(p.at))} {clock(new Date(p.at), true)}
              </td>
              <td>{p.who}</td>
              <td>
                {p.what} {p.refused && <Tag tone="deep">refused</Tag>}
              </td>
              <td>{p.servers.length ? fewNames(p.servers) : "–"}</td>
              <td>{p.detail || "–"}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </Section>
  );
}
