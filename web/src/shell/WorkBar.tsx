import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Drawer from "@mui/material/Drawer";
import { styled } from "@mui/material/styles";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";

import { api, take, type Work } from "../api/client";
import { site, work, workPage } from "../api/queries";
import { ask } from "../api/refused";
import { ink } from "../theme/theme";
import { Key } from "../ui/Key";
import { unseenOf, useCalls } from "./calls";
import { ago, count, duration, size } from "./format";
import { More } from "../ui/More";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { useSiteNow } from "./time";
import { isUnderWay, shortened, workLine } from "./work";
import { Row, Stack, Text } from "../ui/layout";
import { Progress } from "../ui/Progress";

const amount = (n: number, unit: string): string => (unit === "bytes" ? size(n) : String(n));

/** How far, and how long still, at the pace so far. */
export function progress(w: Work, now: number): { part: number; told: string } {
  const part = w.total ? Math.min(1, w.done / w.total) : 0;
  const gone = w.started_at ? (now - Date.parse(w.started_at)) / 1000 : 0;
  // Servers of a run take very unlike times: its sheet tells the expected end, a guess here would mislead.
  const left =
    w.kind !== "run" && part > 0.02 && part < 1 ? `, about ${duration((gone / part) * (1 - part))} left` : "";
  return {
    part,
    told:
      w.state === "asked"
        ? "waits for the engine"
        : w.total
          ? `${amount(w.done, w.unit)} of ${amount(w.total, w.unit)}${left}`
          : "begun",
  };
}

/** Say that a work's failure was seen. */
export const seen = (id: number): Promise<unknown> =>
  take(api.POST("/api/v1/work/{id}/seen", { params: { path: { id } } }));

const Bar = styled("footer")({
  backgroundColor: ink("bar"),
  color: ink("barText"),
  minHeight: 38,
  display: "flex",
  alignItems: "stretch",
  fontSize: 13,
  borderTop: `1px solid ${ink("rule")}`,
});

const Note = styled(Text, { shouldForwardProp: (name) => name !== "failed" })<{ failed: boolean }>(
  ({ failed }) => ({ color: failed ? ink("barDeep") : "inherit" }),
);

const CallsThere = styled(Link)({
  flex: "none",
  fontWeight: 700,
  color: ink("barDeep"),
  whiteSpace: "nowrap",
});

/** One thing in full: its title and how far it is, or how it ended. */
function Item({ w, now }: { w: Work; now: number }) {
  const { part, told } = progress(w, now);
  const under = isUnderWay(w);
  const failed = w.state === "failed" && !w.seen;
  return (
    <Box
      role={under ? "progressbar" : undefined}
      aria-label={under ? w.title : undefined}
      aria-valuenow={under ? Math.round(part * 100) : undefined}
      sx={{
        display: "flex",
        alignItems: "center",
        gap: 1.25,
        minWidth: 0,
        opacity: under || failed ? 1 : 0.85,
      }}
    >
      <Text as="strong" title={w.title} cut style={{ flex: "0 1 auto" }}>
        {shortened(w.title)}
      </Text>
      {under && <Progress part={part} onBar />}
      {under && <Mono>{told}</Mono>}
      {!under && (
        <Note as="span" title={w.note} cut failed={failed} style={{ flex: "0 3 auto" }}>
          {shortened(w.note)}
          {!failed && w.ended_at && `, ${ago(w.ended_at, now)}`}
        </Note>
      )}
      {failed && (
        <Button
          color="inherit"
          variant="outlined"
          aria-label={`Seen: ${w.title}`}
          onClick={() => ask(seen(w.id))}
          size="row"
          sx={{ flex: "none" }}
        >
          Seen
        </Button>
      )}
    </Box>
  );
}

function AllWork({ now }: { now: number }) {
  const [limit, setLimit] = useState(20);
  const { data } = useQuery(workPage(limit));
  if (!data) return null;
  return (
    <>
      {data.total === 0 && "Nothing has been asked for yet."}
      {data.rows.map((w) => (
        <WorkDetail key={w.id} w={w} now={now} />
      ))}
      <More shown={data.rows.length} total={data.total} more={() => setLimit(limit * 5)} />
    </>
  );
}

/** Work under way: always on screen. A failure stays until someone has seen it. */
export function WorkBar({
  open,
  setOpen,
  live,
}: {
  open: boolean;
  setOpen: (open: boolean) => void;
  live: boolean;
}) {
  const { data = [] } = useQuery(work);
  const trouble = useQuery(site).data?.trouble;
  const now = useSiteNow();
  const { main, others } = workLine(data);
  const toSee = unseenOf(useCalls()).length;
  return (
    <Bar className="no-print">
      <Row
        role="status"
        aria-label="Work under way"
        align="center"
        gap={2}
        flex={1}
        minWidth={0}
        px={2}
        py={1}
      >
        {live && trouble && (
          <Note title={trouble} cut strong failed>
            {trouble}
          </Note>
        )}
        {!live && (
          <Text cut strong>
            The line to Ordnung is down. Trying again; runs go on.
          </Text>
        )}
        {/* A phone has room for one thing: what needs a person comes first there. */}
        <Box sx={{ minWidth: 0, display: { xs: toSee || trouble ? "none" : "block", sm: "block" } }}>
          {live && main && <Item key={main.id} w={main} now={now} />}
          {live && !main && !trouble && "Nothing is under way."}
        </Box>
        <CallsLink open={toSee} />
        {others && (
          <Box sx={{ flex: "none", whiteSpace: "nowrap", ml: "auto", display: { xs: "none", sm: "block" } }}>
            {others}
          </Box>
        )}
      </Row>
      <Button color="inherit" onClick={() => setOpen(true)} sx={{ px: 2, gap: 1, flex: "none" }}>
        All work <Key>w</Key>
      </Button>
      <Drawer
        anchor="bottom"
        open={open}
        onClose={() => setOpen(false)}
        slotProps={{ paper: { sx: { maxHeight: "60%", p: 2.5 }, "aria-label": "All work", role: "dialog" } }}
      >
        <Row between mb={1.5}>
          <Title level={2}>All work</Title>
          <Button variant="outlined" onClick={() => setOpen(false)}>
            Close
          </Button>
        </Row>
        <Stack gap={1.25}>
          <AllWork now={now} />
        </Stack>
      </Drawer>
    </Bar>
  );
}

/** How many calls for a person there are, wherever one is. */
function CallsLink({ open }: { open: number }) {
  if (!open) return null;
  return <CallsThere to="/calls">{count(open, "call")} for a person</CallsThere>;
}

const TONE = { asked: "rule", running: "water", done: "done", failed: "deep" } as const;

function WorkDetail({ w, now }: { w: Work; now: number }) {
  return (
    <Stack under pb={1.25} gap={0.5}>
      <Row gap={1.25} align="baseline">
        <strong>{w.title}</strong>
        <Tag tone={TONE[w.state]}>{w.state}</Tag>
        <Text tone="quiet">{isUnderWay(w) ? progress(w, now).told : w.note}</Text>
        <Text ml="auto" tone="quiet">
          {ago(w.asked_at, now)}
        </Text>
      </Row>
      {w.failures.map((f) => (
        <Notice key={f.server} title={`${f.server}: ${f.cause}`}>
          {f.detail}. {f.remedy}
        </Notice>
      ))}
      {w.state === "failed" && !w.seen && (
        <Box>
          <Button variant="outlined" onClick={() => ask(seen(w.id))}>
            Seen
          </Button>
        </Box>
      )}
    </Stack>
  );
}
