// What a run will probably come to: when it is over, what delays it, what it costs against updating one by one.
import { useQuery } from "@tanstack/react-query";

import type { Forecast, Run } from "../api/client";
import { clock, count, duration, size } from "../shell/format";
import { Block, Row, Text } from "../ui/layout";
import { Section } from "../ui/Section";
import { Mono } from "../ui/text";
import { nobodyFits, tellDelay, tellPersons } from "./expected";
import { forecast as forecastQuery } from "./queries";

/** The section beside the lanes: chances first, then the delay with its remedy, then the costs. */
export function Expected({ run }: { run: Run }) {
  const { data } = useQuery(forecastQuery(run));
  if (!data) return null;
  if (nobodyFits(run))
    return (
      <Section title="What to expect">
        <Text mt={0.75}>
          Nothing: nobody fits into the window. Choose a later one or a longer one, or leave servers out.
        </Text>
      </Section>
    );
  return (
    <Section title="What to expect">
      <Chances run={run} found={data} />
      {data.delay && (
        <Text size="body" mt={0.75}>
          {tellDelay(data.delay)}
        </Text>
      )}
      {run.state === "draft" && <Costs run={run} found={data} />}
    </Section>
  );
}

const CHANCES = [
  ["p50", "even chance"],
  ["p90", "nine in ten"],
  ["p99", "99 in 100"],
] as const;

function Chances({ run, found }: { run: Run; found: Forecast }) {
  const start = run.lanes_from ? Date.parse(run.lanes_from) : null;
  const tell = (seconds: number) =>
    start === null ? `in ${duration(seconds)}` : `by ${clock(new Date(start + seconds * 1000))}`;
  return (
    <Block mt={0.75}>
      {CHANCES.map(([key, words]) => (
        <Row key={key} between gap={1}>
          <Text tone="quiet" size="body">
            all done with {words}
          </Text>
          <Text size="body" strong={key === "p90"} noWrap>
            <Mono>{tell(found.end[key])}</Mono>
          </Text>
        </Row>
      ))}
    </Block>
  );
}

function Costs({ run, found: { costs, assumed } }: { run: Run; found: Forecast }) {
  const groups = Object.entries(costs.away_of_groups);
  return (
    <Text as="ul" m={0} mt={0.75} pl={2.25} size="body">
      {run.disc && (
        <li>
          {count(run.outages, "outage")}, one for each server; {duration(costs.away_seconds)} out of service
          in all.
        </li>
      )}
      {!run.disc && costs.outages_one_by_one > 0 && (
        <li>
          {count(costs.outages, "outage")} instead of {costs.outages_one_by_one} if each update had its own;{" "}
          {duration(costs.away_seconds)} out of service in all instead of{" "}
          {duration(costs.away_seconds_one_by_one)}.
        </li>
      )}
      {groups.length > 0 && (
        <li>
          Longest away, in all:{" "}
          {groups
            .slice(0, 3)
            .map(([group, seconds]) => `${group} ${duration(seconds)}`)
            .join(", ")}
          .
        </li>
      )}
      {run.disc ? (
        <li>Each controller reads its disc over the network: up to {size(run.disc.size)} for each start.</li>
      ) : (
        <li>{size(costs.bytes)} go over the network.</li>
      )}
      <li>{tellPersons(costs.need_a_person)}</li>
      {assumed.length > 0 && (
        <li>
          {count(assumed.length, "server")} with an update of which the catalog tells no times: usual ones are
          assumed.
        </li>
      )}
    </Text>
  );
}
