import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import type { Baseline } from "../api/client";
import { baseline as baselineQuery, me as meQuery } from "../api/queries";
import { floor as floorQuery } from "../waterline/spots";
import { count } from "../shell/format";
import { EmptyPlace } from "../ui/EmptyPlace";
import { Notice } from "../ui/Notice";
import { Sides } from "../ui/Sides";
import { Split } from "../ui/Split";
import { Title } from "../ui/text";
import { useParam } from "../shell/selection";
import { Coverage, keyOf } from "./Coverage";
import { follow, followNewest } from "./draft";
import { EffectPanel } from "./EffectPanel";
import { Gaps, Resulting } from "./Resulting";
import { Revisions } from "./Revisions";
import { Rules } from "./Rules";
import { Sources } from "./Sources";
import { useDraft } from "./useDraft";
import { Block, Row, Stack, Text } from "../ui/layout";

/** What every product should run: the issues followed, the rules, the result, and what a change would mean. */
export function BaselinePlace() {
  const { data, error } = useQuery(baselineQuery);
  if (error)
    return (
      <Block p={3}>
        <Notice>{error.message}</Notice>
      </Block>
    );
  return data ? <Sheet data={data} /> : null;
}

const SIDES: [string, string][] = [
  ["rules", "Rules"],
  ["revisions", "Revisions"],
  ["sources", "Sources"],
];

function Sheet({ data }: { data: Baseline }) {
  const draft = useDraft(data);
  const [asked, setSide] = useParam("side");
  const side = asked ?? (data.issues.length ? "rules" : "sources");
  const options = useOptions(data);
  const person = useQuery(meQuery).data?.name ?? "";
  const coverage = draft.effect?.coverage ?? data.coverage;
  const panel: Record<string, ReactNode> = {
    rules: (
      <>
        <Rules
          rules={draft.wanted.rules}
          told={draft.effect?.rules ?? data.rules}
          options={options}
          person={person}
          change={(rules) => draft.change({ rules })}
        />
        <EffectPanel draft={draft} number={data.revision.number} />
      </>
    ),
    revisions: (
      <Revisions
        number={data.revision.number}
        start={(wanted) => {
          draft.change(wanted);
          setSide(null);
        }}
      />
    ),
    sources: <Sources issues={data.issues} />,
  };
  return (
    <Split
      label="Baseline"
      width={372}
      panel={
        <Stack gap={1.75} start>
          <Sides
            label="Beside the baseline"
            sides={SIDES}
            shown={side}
            show={(key) => setSide(key === "rules" ? null : key)}
          />
          {panel[side]}
        </Stack>
      }
    >
      {data.issues.length === 0 ? (
        <EmptyPlace
          drawing="pins"
          title="No baseline yet"
          act={
            <Button variant="contained" onClick={() => setSide("sources")}>
              Bring in a catalog
            </Button>
          }
        >
          The baseline says which release every product should run. It follows from makers’ catalogs and the
          house rules, for the servers that were read. Bring in a catalog first.
        </EmptyPlace>
      ) : (
        <>
          <Head
            data={data}
            changed={draft.dirty}
            newest={() => draft.change({ follows: followNewest(draft.wanted.follows, coverage) })}
            behind={coverage.filter((r) => r.newest && r.newest !== r.followed).length}
          />
          <Coverage
            rows={coverage}
            issues={data.issues}
            held={new Map(data.coverage.map((r) => [keyOf(r), r.followed ?? ""]))}
            toSources={() => setSide("sources")}
            move={(row, issue) => draft.change({ follows: follow(draft.wanted.follows, row, issue) })}
          />
          {data.lines.length === 0 ? (
            <EmptyPlace title="Nothing is read yet">
              Read the servers on the Floor; what is fitted in them gets its line here.
            </EmptyPlace>
          ) : (
            <Block mt={1.5}>
              <Resulting
                lines={draft.effect?.lines ?? data.lines}
                before={draft.effect ? data.lines : null}
              />
            </Block>
          )}
          <Gaps data={data} />
        </>
      )}
    </Split>
  );
}

function Head({
  data,
  changed,
  newest,
  behind,
}: {
  data: Baseline;
  changed: boolean;
  newest: () => void;
  behind: number;
}) {
  const held = data.lines.filter((l) => l.held).length;
  return (
    <Row gap={1.5} align="baseline" mb={0.75} wrap>
      <Title>Which issue each model follows</Title>
      <Text tone="quiet">
        {changed
          ? `a draft on r${data.revision.number}`
          : `r${data.revision.number} of ${data.revision.made_by}`}
        , {count(data.lines.length, "line")}, {held} held
      </Text>
      {behind > 0 && (
        <Button variant="outlined" sx={{ ml: "auto" }} onClick={newest}>
          Follow the newest everywhere ({behind})
        </Button>
      )}
    </Row>
  );
}

/** What rules can be written about: what is really here. */
function useOptions(data: Baseline) {
  const spots = useQuery(floorQuery).data ?? [];
  return {
    kind: [...new Set(data.lines.map((l) => l.kind))].sort(),
    product: [...new Set(data.lines.map((l) => l.product))].sort(),
    model: [...new Set(data.coverage.map((r) => r.model).filter(Boolean))],
    group: data.groups,
    server: spots.map((s) => s.name),
  };
}
