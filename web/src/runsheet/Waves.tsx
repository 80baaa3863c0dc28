import {
  DndContext,
  type DragEndEvent,
  type DragOverEvent,
  PointerSensor,
  useDraggable,
  useDroppable,
  useSensor,
  useSensors,
} from "@dnd-kit/core";
import Button from "@mui/material/Button";
import { styled } from "@mui/material/styles";
import { type KeyboardEvent, useState } from "react";

import type { Run } from "../api/client";
import { count } from "../shell/format";
import { ink } from "../theme/theme";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Title } from "../ui/text";
import { tellTried } from "./tried";
import { useSheetChange, useTrial } from "./useSheet";
import {
  addWave,
  besideOf,
  changeOf,
  changeWave,
  dropWave,
  moveServer,
  moveWave,
  type WaveDraft,
  wavesOf,
} from "./waves";
import { After, NotBefore } from "./WaveTerms";

/** The waves of a draft: proposed, and changed by dragging or by keys; what a move would mean is told while it is tried. */
export function Waves({ run, now }: { run: Run; now: number }) {
  const begin = run.lanes_from ? Date.parse(run.lanes_from) : now;
  const change = useSheetChange(run);
  const trial = useTrial(run);
  const sensors = useSensors(useSensor(PointerSensor, { activationConstraint: { distance: 4 } }));
  const waves = wavesOf(run);
  const put = (next: WaveDraft[]) => {
    trial.ask(null);
    change.mutate(changeOf(next));
  };
  const over = ({ active, over: target }: DragOverEvent) => {
    const to = target ? String(target.id) : null;
    const stays = to === null || besideOf(waves, String(active.id), 0) === to;
    trial.ask(stays ? null : changeOf(moveServer(waves, String(active.id), to)));
  };
  const end = ({ active, over: target }: DragEndEvent) => {
    const [server, to] = [String(active.id), target ? String(target.id) : null];
    if (to !== null && besideOf(waves, server, 0) !== to) put(moveServer(waves, server, to));
    else trial.ask(null);
  };
  const { told } = trial;
  const answer = told?.tried ? tellTried(told.tried) : (told?.error?.message ?? "");
  return (
    <Stack gap={1.25} start>
      <Title level={2}>Waves</Title>
      <Told>
        <Text role="status" size="body" strong>
          {answer}
        </Text>
        {answer === "" && (
          <Text size="small" tone="quiet">
            {waves.length
              ? "They go in order: the next begins when all of one have ended. Drag a server to another wave, or Alt with ↑ ↓ on it."
              : "Without waves everybody may go from the start. Proposed are: one server of each model and state first, then half of each group, then the rest."}
          </Text>
        )}
      </Told>
      {change.error && <Notice>{change.error.message}</Notice>}
      <DndContext sensors={sensors} onDragOver={over} onDragEnd={end} onDragCancel={() => trial.ask(null)}>
        {waves.map((wave, at) => (
          <OneWave
            key={wave.name}
            wave={wave}
            isLast={at === waves.length - 1}
            begin={begin}
            ask={(part) => trial.ask(part && changeOf(changeWave(waves, wave.name, part)))}
            put={(part) => put(changeWave(waves, wave.name, part))}
            move={(by) => put(moveWave(waves, wave.name, by))}
            drop={() => put(dropWave(waves, wave.name))}
            shift={(server, by) => {
              const to = besideOf(waves, server, by);
              if (to !== null) put(moveServer(waves, server, to));
            }}
          />
        ))}
      </DndContext>
      <ActionBar>
        <Act
          takes="plan"
          variant="outlined"
          loading={change.isPending}
          onClick={() => change.mutate({ propose_waves: true })}
        >
          {waves.length ? "Propose them anew" : "Propose waves"}
        </Act>
        <Act takes="plan" variant="outlined" onClick={() => put(addWave(waves))}>
          Add a wave
        </Act>
        {waves.length > 0 && (
          <Act takes="plan" variant="text" onClick={() => put([])}>
            No waves
          </Act>
        )}
      </ActionBar>
    </Stack>
  );
}

/** What a move would do stands where it is told how to move: what is dragged over must not move beneath it. */
const Told = styled("div")({ minHeight: 76 });

const Frame = styled("section", { shouldForwardProp: (name) => name !== "isOver" })<{ isOver: boolean }>(
  ({ isOver }) => ({
    borderTop: `1.5px solid ${ink("ink")}`,
    paddingTop: 6,
    outline: isOver ? `2px solid ${ink("water")}` : undefined,
    outlineOffset: 3,
  }),
);

const Chip = styled("button")({
  all: "unset",
  boxSizing: "border-box",
  padding: "1px 6px",
  fontSize: 12.5,
  border: `1px solid ${ink("rule")}`,
  backgroundColor: ink("paper"),
  borderRadius: 2,
  cursor: "grab",
  touchAction: "none",
  "&:focus-visible": { outline: `2px solid ${ink("water")}`, outlineOffset: 1 },
});

/** So many servers of a wave are shown at once. */
const SHOWN = 40;

interface WaveProps {
  wave: WaveDraft;
  isLast: boolean;
  begin: number;
  ask: (part: Partial<WaveDraft> | null) => void;
  put: (part: Partial<WaveDraft>) => void;
  move: (by: number) => void;
  drop: () => void;
  shift: (server: string, by: number) => void;
}

function OneWave({ wave, isLast, begin, ask, put, move, drop, shift }: WaveProps) {
  const { setNodeRef, isOver } = useDroppable({ id: wave.name });
  const [isWhole, showAll] = useState(false);
  const shown = isWhole ? wave.servers : wave.servers.slice(0, SHOWN);
  return (
    <Frame ref={setNodeRef} isOver={isOver} aria-label={`Wave ${wave.name}`}>
      <Row align="baseline" gap={0.5} wrap>
        <Title level={3}>{wave.name}</Title>
        <Text as="span" size="note" tone="quiet">
          {count(wave.servers.length, "server")}
        </Text>
        <Row ml="auto">
          <Act takes="plan" variant="text" aria-label={`${wave.name} earlier`} onClick={() => move(-1)}>
            ↑
          </Act>
          <Act takes="plan" variant="text" aria-label={`${wave.name} later`} onClick={() => move(1)}>
            ↓
          </Act>
          <Act takes="plan" variant="text" aria-label={`Take ${wave.name} away`} onClick={drop}>
            ✕
          </Act>
        </Row>
      </Row>
      <Row wrap gap={0.5} my={0.5}>
        {shown.map((server) => (
          <Server key={server} server={server} shift={(by) => shift(server, by)} />
        ))}
        {wave.servers.length > shown.length && (
          <Button variant="text" onClick={() => showAll(true)}>
            and {wave.servers.length - shown.length} more
          </Button>
        )}
        {!wave.servers.length && (
          <Text size="note" tone="quiet">
            nobody: it is passed over
          </Text>
        )}
      </Row>
      <NotBefore wave={wave} begin={begin} ask={ask} put={put} />
      {!isLast && <After wave={wave} put={put} />}
    </Frame>
  );
}

function Server({ server, shift }: { server: string; shift: (by: number) => void }) {
  const { setNodeRef, listeners, transform } = useDraggable({ id: server });
  const onKeyDown = (event: KeyboardEvent) => {
    const by = { ArrowUp: -1, ArrowDown: 1 }[event.key];
    if (!event.altKey || by === undefined) return;
    event.preventDefault();
    shift(by);
  };
  return (
    <Chip
      ref={setNodeRef}
      {...listeners}
      onKeyDown={onKeyDown}
      aria-keyshortcuts="Alt+ArrowUp Alt+ArrowDown"
      style={
        transform
          ? { transform: `translate(${transform.x}px,${transform.y}px)`, zIndex: 5, position: "relative" }
          : undefined
      }
    >
      {server}
    </Chip>
  );
}

/** While a run is under way: where a person is waited for, with what went wrong in view. */
export function Gate({
  run,
  open,
  isOpening,
}: {
  run: Run;
  open: (wave: string) => void;
  isOpening: boolean;
}) {
  if (run.too_many_failed)
    return (
      <Notice title="Too many failed: go on?">
        {run.failed} of {run.count} servers failed, more than the house lets pass. Nobody else begins until a
        person says so; who has begun goes on.
        <Block mt={0.75}>
          <Act takes="run" variant="outlined" loading={isOpening} onClick={() => open("all")}>
            Let the others go on
          </Act>
        </Block>
      </Notice>
    );
  return run.waves
    .filter((wave) => wave.asks)
    .map((wave) => (
      <Notice
        key={wave.name}
        title={wave.has_failed ? `Too many of ${wave.name} failed: go on?` : `${wave.name} has ended: go on?`}
      >
        {wave.troubled.length
          ? `${wave.ended - wave.troubled.length} of ${wave.servers} went well; look at ${wave.troubled.join(", ")}.`
          : `All ${wave.servers} went well.`}
        <Block mt={0.75}>
          <Act takes="run" variant="outlined" loading={isOpening} onClick={() => open(wave.name)}>
            {wave.has_failed ? "Let the others go on" : "Let the next wave begin"}
          </Act>
        </Block>
      </Notice>
    ));
}
