import Box from "@mui/material/Box";
import { useEffect, useImperativeHandle, useMemo, useRef, useState } from "react";

import { selectedNow } from "../shell/selection";
import { useSettling } from "../shell/settling";
import { useZoom } from "../shell/zoom";
import { TOKENS, type Tokens } from "../theme/theme";
import type { Lens } from "./lenses";
import { NAMES_PX, paint, screen } from "./paint";
import {
  type Box as Frame,
  boxOf,
  fit,
  layOut,
  type Look,
  type Plan,
  rackOf,
  readLook,
  reveal,
  SCALES,
  type RackPlan as Rack,
  span,
  spellLook,
  spotAt,
  spotsIn,
  step,
  zoom,
} from "./plan";
import { type Spot, tellSpot } from "../waterline/spots";

/** What the buttons beside the drawing call: a factor, or null for everything in sight. */
export type Zoomer = React.RefObject<((factor: number | null) => void) | null>;
interface Props {
  spots: Spot[];
  lens: Lens;
  selected: string[];
  select: (names: string[]) => void;
  now: number;
  zoomer: Zoomer;
}

/** The tokens of the present scheme as colours a canvas can use. */
function useInk(): (name: keyof Tokens) => string {
  const [round, setRound] = useState(0);
  useEffect(() => {
    const watch = new MutationObserver(() => setRound((n) => n + 1));
    watch.observe(document.documentElement, { attributes: true, attributeFilter: ["data-scheme"] });
    return () => watch.disconnect();
  }, []);
  return useMemo(() => {
    const style = getComputedStyle(document.documentElement);
    const known = new Map(
      TOKENS.map((name) => [name, style.getPropertyValue(`--mui-palette-t-${name}`).trim()]),
    );
    void round;
    return (name) => known.get(name) ?? "";
  }, [round]);
}

function useSize(): [React.RefObject<HTMLDivElement | null>, { wide: number; high: number }] {
  const ref = useRef<HTMLDivElement>(null);
  const [size, setSize] = useState({ wide: 900, high: 600 });
  useEffect(() => {
    if (!ref.current) return;
    const watch = new ResizeObserver(
      ([entry]) =>
        entry &&
        setSize({
          wide: Math.max(200, entry.contentRect.width),
          high: Math.max(200, entry.contentRect.height),
        }),
    );
    watch.observe(ref.current);
    return () => watch.disconnect();
  }, []);
  return [ref, size];
}

/** Keys may come faster than the plan is drawn: each begins from what the address says now. */
function useChoice(plan: Plan, choose: (names: string[]) => void) {
  const anchor = useRef<string | null>(null);
  const pick = (name: string, shift: boolean, add: boolean) => {
    if (shift && anchor.current)
      return choose([...span(plan, anchor.current, name).filter((n) => n !== name), name]);
    anchor.current = name;
    const all = selectedNow();
    const others = all.filter((n) => n !== name);
    choose(!add ? [name] : all.includes(name) ? others : [...others, name]);
  };
  return { choose, pick, last: () => selectedNow().at(-1) ?? null, all: selectedNow };
}

const MOVES = ["ArrowUp", "ArrowDown", "ArrowLeft", "ArrowRight", "Home", "End"];

/** Racks to scale on a canvas: smooth with ten thousand servers, walked by keys, framed by the mouse. */
export function RackPlan({ spots, lens, selected, select, now, zoomer }: Props) {
  const ink = useInk();
  const [ref, size] = useSize();
  const canvas = useRef<HTMLCanvasElement>(null);
  const plan = useMemo(() => layOut(spots, size.wide, size.high), [spots, size.wide, size.high]);
  const { said, moving, move, settle } = useSettling<Look>("look");
  const seen = moving ?? readLook(said) ?? fit(plan, size.wide, size.high);
  const setLook = (look: Look) => move(look, spellLook(look));
  const [frame, setFrame] = useState<Frame | null>(null);
  const choice = useChoice(plan, select);
  const active = selected.at(-1) ?? null;

  useEffect(() => {
    const c = canvas.current?.getContext("2d");
    if (!c || !canvas.current) return;
    const ratio = window.devicePixelRatio || 1;
    canvas.current.width = Math.round(size.wide * ratio);
    canvas.current.height = Math.round(size.high * ratio);
    c.setTransform(ratio, 0, 0, ratio, 0, 0);
    paint(
      c,
      {
        plan,
        look: seen,
        lens,
        selected: new Set(selected),
        active,
        now,
        wide: size.wide,
        high: size.high,
        frame,
      },
      ink,
    );
  });

  const show = (name: string | null) => {
    const rack = rackOf(plan, name);
    const spot = rack?.spots.find((s) => s.name === name);
    if (!rack || !spot) return;
    const next = reveal(seen, boxOf(rack, spot), size.wide, size.high);
    if (next.left !== seen.left || next.top !== seen.top) setLook(next);
  };
  const closer = (factor: number, x = size.wide / 2, y = size.high / 2) => setLook(zoom(seen, factor, x, y));
  useImperativeHandle(
    zoomer,
    () => (factor: number | null) => (factor === null ? settle(null) : closer(factor)),
  );
  const onKeyDown = (event: React.KeyboardEvent) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (MOVES.includes(event.key)) {
      const next = step(plan, choice.last(), event.key);
      if (next) {
        choice.pick(next, event.shiftKey, false);
        show(next);
      }
    } else if (event.key === "a")
      choice.choose((rackOf(plan, choice.last()) ?? plan.racks[0])?.spots.map((s) => s.name) ?? []);
    else if (event.key === "Escape") choice.choose([]);
    else if (event.key === "+" || event.key === "=") closer(1.35);
    else if (event.key === "-") closer(1 / 1.35);
    else if (event.key === "0") settle(null);
    else return;
    event.preventDefault();
  };
  const mouse = useMouse({ plan, look: seen, setLook, frame, setFrame, choice });
  useZoom(ref, {
    view: { k: seen.scale, x: -seen.left * seen.scale, y: -seen.top * seen.scale },
    change: ({ k, x, y }) => setLook({ scale: k, left: -x / k, top: -y / k }),
    extent: [
      [0, 0],
      [size.wide, size.high],
    ],
    scales: SCALES,
    takes: (event) => {
      if (event instanceof WheelEvent) return true;
      return "touches" in event ? event.touches.length > 1 : movesSheet(event);
    },
  });

  return (
    <Box
      sx={{
        display: "grid",
        gridTemplateRows: "minmax(0,1fr)",
        minHeight: 0,
        height: "100%",
        position: "relative",
      }}
    >
      <Box
        ref={ref}
        role="listbox"
        aria-label="Racks"
        aria-multiselectable
        tabIndex={0}
        aria-activedescendant={active ? `unit-${active}` : undefined}
        onKeyDown={onKeyDown}
        {...mouse}
        sx={{
          position: "relative",
          overflow: "hidden",
          minHeight: 0,
          cursor: "default",
          touchAction: "none",
        }}
      >
        <canvas ref={canvas} aria-hidden style={{ width: "100%", height: "100%", display: "block" }} />
        <Options plan={plan} look={seen} selected={selected} active={active} size={size} />
      </Box>
    </Box>
  );
}

/** What a screen reader walks, and what carries the names: one element a server where single servers can be told apart. */
function Options({
  plan,
  look,
  selected,
  active,
  size,
}: {
  plan: Plan;
  look: Look;
  selected: string[];
  active: string | null;
  size: { wide: number; high: number };
}) {
  const chosen = useMemo(() => new Set(selected), [selected]);
  const near = (rack: Rack): boolean => {
    const at = screen(rack, look);
    return at.x < size.wide && at.x + at.width > 0 && at.y < size.high && at.y + at.height > 0;
  };
  const own = rackOf(plan, active) ?? plan.racks[0];
  const racks =
    (plan.racks[0]?.unit ?? 0) * look.scale >= NAMES_PX
      ? plan.racks.filter((rack) => near(rack) || rack === own)
      : own
        ? [own]
        : [];
  return racks.map((rack) =>
    rack.spots.map((spot) => {
      const at = screen(boxOf(rack, spot), look);
      return (
        <div
          key={spot.name}
          id={`unit-${spot.name}`}
          role="option"
          aria-selected={chosen.has(spot.name)}
          aria-label={tellSpot(spot)}
          title={tellSpot(spot).replaceAll("; ", "\n")}
          style={{ position: "absolute", left: at.x, top: at.y, width: at.width, height: at.height }}
        />
      );
    }),
  );
}

interface MouseProps {
  plan: Plan;
  look: Look;
  setLook: (look: Look) => void;
  frame: Frame | null;
  setFrame: (frame: Frame | null) => void;
  choice: ReturnType<typeof useChoice>;
}

/** With the middle button, or Alt held, a drag moves the sheet. */
const movesSheet = (event: { button: number; altKey: boolean }): boolean =>
  event.button === 1 || event.altKey;

/** Click picks, drag frames; a finger moves the sheet, two go closer and further. */
function useMouse({ plan, look, setLook, frame, setFrame, choice }: MouseProps) {
  const began = useRef<{ x: number; y: number; look: Look; moves: boolean } | null>(null);
  const at = (event: React.PointerEvent) => {
    const box = event.currentTarget.getBoundingClientRect();
    return { x: event.clientX - box.left, y: event.clientY - box.top };
  };
  const world = (p: { x: number; y: number }) => ({
    x: p.x / look.scale + look.left,
    y: p.y / look.scale + look.top,
  });
  return {
    onPointerDown: (event: React.PointerEvent) => {
      began.current = null;
      if (event.button > 0 || movesSheet(event) || !event.isPrimary) return;
      began.current = { ...at(event), look, moves: event.pointerType === "touch" };
      event.currentTarget.setPointerCapture(event.pointerId);
    },
    onPointerMove: (event: React.PointerEvent) => {
      const from = began.current;
      if (!from) return;
      const p = at(event);
      if (Math.hypot(p.x - from.x, p.y - from.y) < 5 && !frame) return;
      if (from.moves)
        return setLook({
          ...from.look,
          left: from.look.left - (p.x - from.x) / look.scale,
          top: from.look.top - (p.y - from.y) / look.scale,
        });
      const [a, b] = [world(from), world(p)];
      setFrame({
        x: Math.min(a.x, b.x),
        y: Math.min(a.y, b.y),
        width: Math.abs(a.x - b.x),
        height: Math.abs(a.y - b.y),
      });
    },
    onPointerUp: (event: React.PointerEvent) => {
      const from = began.current;
      began.current = null;
      if (!from) return;
      const p = at(event);
      if (frame) {
        const found = spotsIn(plan, frame).map((spot) => spot.name);
        choice.choose(event.ctrlKey || event.metaKey ? [...new Set([...choice.all(), ...found])] : found);
        return setFrame(null);
      }
      if (from.moves && Math.hypot(p.x - from.x, p.y - from.y) >= 5) return;
      const point = world(p);
      const spot = spotAt(plan, point.x, point.y);
      if (spot) choice.pick(spot.name, event.shiftKey, event.ctrlKey || event.metaKey);
      else if (!event.shiftKey && !event.ctrlKey) choice.choose([]);
    },
  };
}
