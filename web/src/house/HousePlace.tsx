import { useQuery } from "@tanstack/react-query";

import type { MaintenanceWindow } from "../api/client";
import { groups as groupsQuery, windows as windowsQuery } from "../api/queries";
import { useParam } from "../shell/selection";
import { useSiteNow } from "../shell/time";
import { Act } from "../ui/Act";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Press } from "../ui/Press";
import { Split } from "../ui/Split";
import { Title } from "../ui/text";
import { GroupEditor } from "./GroupEditor";
import { Hooks } from "./Hooks";
import { mondayOf, tellOpening, wallOf } from "./nights";
import { house as houseQuery } from "./queries";
import { tellRule } from "./recurrence";
import { Settings } from "./Settings";
import { Together } from "./Together";
import { Week } from "./Week";
import { WindowEditor } from "./WindowEditor";

const NEW = "new";

/** What holds for every run: when the house lets servers go down, how many together, and who has to approve. */
export function HousePlace() {
  const { data: house } = useQuery(houseQuery);
  const { data: windows = [] } = useQuery(windowsQuery);
  const [said, choose] = useParam("window");
  const [picked, pick] = useParam("group");
  const { data: groups = [] } = useQuery(groupsQuery);
  const [from, go] = useParam("week");
  const now = useSiteNow(60_000);
  if (!house) return null;
  const today = wallOf(new Date(now), house.zone).day;
  const group = groups.find((g) => g.name === picked);
  const chosen = windows.find((w) => w.name === said) ?? null;
  return (
    <Split
      label="House"
      width={350}
      about={said ?? picked}
      panel={
        said === NEW || chosen ? (
          <WindowEditor
            key={chosen?.id ?? NEW}
            window={chosen}
            zone={house.zone}
            today={today}
            done={() => choose(null)}
          />
        ) : group ? (
          <GroupEditor key={group.name} group={group} done={() => pick(null)} />
        ) : (
          <Settings house={house} />
        )
      }
    >
      <Row gap={1.5} align="baseline" wrap mb={0.5}>
        <Title>House</Title>
        <Text tone="quiet">what holds for every run, by the wall clock of {house.zone}</Text>
        <Block ml="auto">
          <Act takes="keep" variant="contained" onClick={() => choose(NEW)}>
            New window
          </Act>
        </Block>
      </Row>
      <Week
        first={from ?? mondayOf(today)}
        zone={house.zone}
        today={today}
        go={go}
        chosen={chosen?.name ?? null}
        choose={choose}
      />
      <Windows rows={windows} zone={house.zone} choose={choose} />
      <Together
        choose={(name) => {
          choose(null);
          pick(name);
        }}
      />
      <Hooks />
    </Split>
  );
}

function Windows({
  rows,
  zone,
  choose,
}: {
  rows: MaintenanceWindow[];
  zone: string;
  choose: (name: string) => void;
}) {
  if (!rows.length)
    return (
      <Text tone="quiet" mt={1} size="body">
        No window is kept yet: sheets are laid out from whenever they are started. With a window, nothing is
        reset outside it, and who would not be back in time is left over beforehand.
      </Text>
    );
  return (
    <Stack as="ul" plain m={0} mt={1} p={0} gap={0.5} aria-label="Windows">
      {rows.map((w) => (
        <Row as="li" key={w.id} gap={1} wrap align="baseline">
          <Press strong onClick={() => choose(w.name)}>
            {w.name}
          </Press>
          <Text as="span" tone="quiet" size="body">
            {tellRule(w.rule)}; {w.next ? `next ${tellNext(w, zone)}` : "it does not open any more"}
          </Text>
        </Row>
      ))}
    </Stack>
  );
}

function tellNext(w: MaintenanceWindow, zone: string): string {
  if (!w.next) return "";
  const { day } = wallOf(new Date(w.next.start), zone);
  return `${day}${tellOpening(w.next, zone).slice(w.name.length)}`;
}
