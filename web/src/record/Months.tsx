// The fleet over months: drift of each model as a line, exposures closed after how long, and what failed how often.
import { useQuery } from "@tanstack/react-query";

import type { MonthsData } from "../api/client";
import { count, month } from "../shell/format";
import { ink } from "../theme/theme";
import { Block, Text } from "../ui/layout";
import { WayTo } from "../ui/links";
import { Notice } from "../ui/Notice";
import { Section } from "../ui/Section";
import { Split } from "../ui/Split";
import { Table } from "../ui/Table";
import { Mono, Title } from "../ui/text";
import { layOut, type ModelLine } from "./month-lines";
import { months as monthsQuery } from "./queries";

/** The last year of the fleet. */
export function Months() {
  const { data, error } = useQuery(monthsQuery);
  if (error)
    return (
      <Block p={3}>
        <Notice>{error.message}</Notice>
      </Block>
    );
  if (!data) return null;
  return (
    <Split label="The fleet over months">
      <WayTo to="/record">Record</WayTo>
      <Title>Over months</Title>
      <Drift data={data} />
      <Closed data={data} />
      <Failures data={data} />
    </Split>
  );
}

const [WIDTH, HEIGHT] = [860, 190];

function Drift({ data }: { data: MonthsData }) {
  const lines = layOut(data.models, WIDTH, HEIGHT);
  return (
    <Section title="Servers off the baseline, of each model" mt={1.5}>
      {lines.length === 0 ? (
        <Text tone="quiet">Kept from today on, once a day, for every model that was read.</Text>
      ) : (
        <>
          <Drawing lines={lines} />
          <Table framed aria-label="Servers off the baseline, in figures">
            <thead>
              <tr>
                <th scope="col">Model</th>
                <th scope="col" className="n">
                  Servers
                </th>
                <th scope="col" className="n">
                  Off when first kept
                </th>
                <th scope="col" className="n">
                  Most
                </th>
                <th scope="col" className="n">
                  Now
                </th>
                <th scope="col" className="n">
                  Exposed now
                </th>
              </tr>
            </thead>
            <tbody>
              {lines.map((line) => (
                <tr key={line.model}>
                  <td>{line.model}</td>
                  <td className="n">{line.last.servers}</td>
                  <td className="n">{line.first.off}</td>
                  <td className="n">{line.most}</td>
                  <td className="n">{line.last.off}</td>
                  <td className="n">{line.last.exposed}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
    </Section>
  );
}

function Drawing({ lines }: { lines: ModelLine[] }) {
  const from = lines.map((line) => line.first.day).sort()[0] ?? "";
  const until =
    lines
      .map((line) => line.last.day)
      .sort()
      .at(-1) ?? "";
  return (
    <Block my={1} tabIndex={0} style={{ overflowX: "auto" }}>
      <svg
        viewBox={`0 0 ${WIDTH + 190} ${HEIGHT + 26}`}
        width="100%"
        style={{ maxWidth: WIDTH + 190, minWidth: 620, display: "block" }}
        role="img"
        aria-label={`Share of servers off the baseline, ${month(from)} to ${month(until)}; in figures below.`}
      >
        {[0, 50, 100].map((share) => {
          const y = HEIGHT - (share / 100) * (HEIGHT - 20) - 4;
          return (
            <g key={share}>
              <line x1={44} x2={WIDTH} y1={y} y2={y} stroke={ink("rule")} />
              <text x={38} y={y + 4} textAnchor="end" fontSize={11} fill={ink("ink2")}>
                {share} %
              </text>
            </g>
          );
        })}
        {lines.map((line) => (
          <g key={line.model}>
            <polyline
              points={line.points}
              fill="none"
              stroke={ink("water")}
              strokeWidth={1.8}
              strokeDasharray={line.dashes}
            />
            <line
              x1={line.end.x}
              y1={line.end.y}
              x2={WIDTH + 8}
              y2={line.labelY}
              stroke={ink("ink3")}
              strokeWidth={0.7}
            />
            <text x={WIDTH + 12} y={line.labelY + 4} fontSize={12} fill={ink("ink")}>
              {line.model}
            </text>
          </g>
        ))}
        <text x={44} y={HEIGHT + 18} fontSize={11} fill={ink("ink2")}>
          {from}
        </text>
        <text x={WIDTH} y={HEIGHT + 18} fontSize={11} textAnchor="end" fill={ink("ink2")}>
          {until}
        </text>
      </svg>
    </Block>
  );
}

function Closed({ data }: { data: MonthsData }) {
  return (
    <Section title="Advisories closed after how many days" mt={2.5}>
      {data.closed.length === 0 ? (
        <Text tone="quiet">No run of this house has written a release that closes one yet.</Text>
      ) : (
        <Table framed aria-label="Advisories closed after how many days">
          <thead>
            <tr>
              <th scope="col">Advisory</th>
              <th scope="col" className="n">
                Servers closed
              </th>
              <th scope="col" className="n">
                Half of them within
              </th>
              <th scope="col" className="n">
                The last after
              </th>
              <th scope="col" className="n">
                Still open on
              </th>
            </tr>
          </thead>
          <tbody>
            {data.closed.map((row) => (
              <tr key={row.advisory}>
                <td>
                  <Mono>{row.advisory}</Mono>
                </td>
                <td className="n">{row.servers}</td>
                <td className="n">{count(row.median_days, "day")}</td>
                <td className="n">{count(row.longest_days, "day")}</td>
                <td className="n">{row.open}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </Section>
  );
}

function Failures({ data }: { data: MonthsData }) {
  return (
    <Section title="What failed how often" mt={2.5}>
      {data.failures.length === 0 ? (
        <Text tone="quiet">No write of the last year has failed.</Text>
      ) : (
        <Table framed aria-label="What failed how often">
          <thead>
            <tr>
              <th scope="col">Model</th>
              <th scope="col">Release</th>
              <th scope="col" className="n">
                Writes
              </th>
              <th scope="col" className="n">
                Failed
              </th>
              <th scope="col" className="n">
                One in
              </th>
            </tr>
          </thead>
          <tbody>
            {data.failures.map((row) => (
              <tr key={`${row.model} ${row.product} ${row.version}`}>
                <td>{row.model}</td>
                <td>
                  {row.name} <Mono>{row.version}</Mono>
                </td>
                <td className="n">{row.writes}</td>
                <td className="n">{row.failed}</td>
                <td className="n">{Math.round(row.writes / row.failed)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </Section>
  );
}
