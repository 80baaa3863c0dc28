import Box from "@mui/material/Box";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";

import { api, take } from "../api/client";
import { ALOUD } from "../api/refused";
import { lost as lostQuery, named } from "./queries";
import { CAUSES } from "./causes";
import { agree, count } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Mono, Title } from "../ui/text";
import { useSelection } from "../shell/selection";
import { Acts } from "./Acts";
import { Credentials } from "../shell/Credentials";
import { readAgain } from "../shell/reading";
import { tryReach } from "./orders";
import { type Spot, tellResets } from "../waterline/spots";
import { Block, Stack, Text } from "../ui/layout";
import { TextLink } from "../ui/links";
import { Press } from "../ui/Press";

/** Nothing selected: what of the whole floor needs someone, the worst first. */
export function Summary({ spots }: { spots: Spot[] }) {
  const read = spots.filter((s) => s.read);
  const off = spots.filter((s) => s.off > 0);
  const exposed = spots.filter((s) => s.exposed > 0);
  const failed = spots.filter((s) => s.failure);
  return (
    <Stack gap={1.5} start>
      <Title level={2}>
        {read.length
          ? `${off.length.toLocaleString("en-GB")} of ${spots.length.toLocaleString("en-GB")} servers ${agree(off.length, "is", "are")} off the baseline`
          : "Nothing is read yet"}
      </Title>
      <Text size="body" tone="quiet">
        {read.length > 0
          ? `${count(exposed.length, "server")} ${agree(exposed.length, "misses", "miss")} a security fix. Pick servers in the racks to see what each needs, or take all that are off.`
          : "Read all servers to see where each stands. Reading changes nothing on a server and does not touch its operating system."}
      </Text>
      {off.length > 0 && <Acts servers={off} whole />}
      <LostList />
      {failed.length > 0 && <FailedList spots={failed} />}
      <Hindered spots={spots} />
    </Stack>
  );
}

/** What was there once and is not any more. */
function LostList() {
  const { data = [] } = useQuery(lostQuery);
  const { select } = useSelection();
  if (!data.length) return null;
  return (
    <Block ruled="ink" pt={1}>
      <Title level={3}>{count(data.length, "component")} vanished</Title>
      <Text as="ul" m={0} p={0} plain size="small">
        {data.slice(0, 12).map((item) => (
          <li key={`${item.server} ${item.slot}`}>
            <Press type="button" onClick={() => select([item.server])}>
              {item.server}
            </Press>{" "}
            {item.name} <Mono>{item.version}</Mono> in {item.slot}
          </li>
        ))}
      </Text>
    </Block>
  );
}

/** Readings that failed, by cause: the same remedy for all of one cause. */
function FailedList({ spots }: { spots: Spot[] }) {
  const { select } = useSelection();
  const causes = [...new Set(spots.map((s) => s.failure))];
  return (
    <Stack gap={1}>
      {causes.map((cause) => {
        const names = spots.filter((s) => s.failure === cause).map((s) => s.name);
        return (
          <Notice key={cause} title={`${cause}: ${count(names.length, "server")}`}>
            {names.slice(0, 8).map((name, n) => (
              <span key={name}>
                {n > 0 && ", "}
                <Press type="button" onClick={() => select([name])} tone="plain" link>
                  {name}
                </Press>
              </span>
            ))}
            {names.length > 8 && ` and ${names.length - 8} more`}. {CAUSES[cause]}
            {cause.startsWith("certificate") && <TrustBatch names={names} cause={cause} />}
          </Notice>
        );
      })}
    </Stack>
  );
}

/** Certificates of a batch, accepted once with every fingerprint shown. */
function TrustBatch({ names, cause }: { names: string[]; cause: string }) {
  const queries = useQueryClient();
  const { data = [] } = useQuery(named(names));
  const shown = data.filter((s) => s.seen_pin);
  // Of those that were known by another certificate the password is asked for first.
  const readsNow = cause !== "certificate changed";
  const accept = useMutation({
    mutationFn: async () => {
      await take(
        api.POST("/api/v1/trust", {
          body: { accept: shown.map((s) => ({ server: s.name, pin: s.seen_pin ?? "" })) },
        }),
      );
      if (readsNow) await readAgain(shown.map((s) => s.name));
    },
    onSuccess: () => queries.invalidateQueries(),
  });
  if (!shown.length) return null;
  return (
    <Block mt={1}>
      <Text as="ul" m={0} pl={2} size="fine">
        {shown.map((s) => (
          <li key={s.name}>
            {s.name}{" "}
            <Mono>
              {s.seen_pin?.slice(0, 16)}…{s.seen_pin?.slice(-8)}
            </Mono>
          </li>
        ))}
      </Text>
      <Act
        takes="approve"
        variant="outlined"
        sx={{ mt: 0.75 }}
        onClick={() => accept.mutate()}
        loading={accept.isPending}
      >
        Accept {count(shown.length, "fingerprint")}
        {readsNow && " and read again"}
      </Act>
      {accept.error && <Box>{accept.error.message}</Box>}
    </Block>
  );
}

/** What will get in the way, before it does. */
function Hindered({ spots }: { spots: Spot[] }) {
  const { select } = useSelection();
  const found = new Map<string, string[]>();
  for (const spot of spots)
    for (const what of new Set(spot.hindrances.split(", ").filter(Boolean)))
      found.set(what, [...(found.get(what) ?? []), spot.name]);
  if (!found.size) return null;
  return (
    <Block ruled="ink" pt={1}>
      <Title level={3}>Will get in the way</Title>
      <Stack as="ul" m={0} mt={0.5} p={0} plain size="small" gap={0.25}>
        {[...found]
          .sort((a, b) => b[1].length - a[1].length)
          .map(([what, names]) => (
            <li key={what}>
              <Press type="button" onClick={() => select(names)}>
                {what}
              </Press>{" "}
              {names.slice(0, 3).join(", ")}
              {names.length > 3 && ` and ${names.length - 3} more`}
            </li>
          ))}
      </Stack>
      <Text mt={0.75} size="note">
        <TextLink to="/floor?lens=health">Show it on the floor</TextLink>
      </Text>
    </Block>
  );
}

/** What is told and can be done when several servers are selected. */
export function Several({ spots }: { spots: Spot[] }) {
  const reach = useMutation({ meta: ALOUD, mutationFn: () => tryReach(spots.map((s) => s.name)) });
  const outages = spots.reduce((sum, s) => sum + s.outages, 0);
  const off = spots.filter((s) => s.off).length;
  return (
    <Stack gap={1.5} start>
      <Title level={2}>{spots.length} servers selected</Title>
      <Text size="body" tone="quiet">
        {off} {agree(off, "is", "are")} off the baseline, {count(outages, "outage")} to pay in all. The
        selection is kept in the other places.
      </Text>
      <Acts servers={spots} />
      <Box>
        <Act takes="plan" variant="outlined" onClick={() => reach.mutate()} loading={reach.isPending}>
          Try the way from their side
        </Act>
      </Box>
      <Credentials names={spots.map((s) => s.name)} user="" />
      <Text as="ul" m={0} pl={2.25} size="small">
        {spots.slice(0, 200).map((s) => (
          <li key={s.name}>
            <strong>{s.name}</strong>{" "}
            {s.failure || tellResets(s) || (s.off ? "no reset" : s.read ? "level" : "not read yet")}
          </li>
        ))}
      </Text>
    </Stack>
  );
}
