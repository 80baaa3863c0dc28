import type { Spot } from "../waterline/spots";
import { foldEmpty, type Rows, toScale, UNITS } from "./folded";

/** World measures: a unit is 13 high at scale 1, or higher where few racks leave room; so with a rack's width. */
export const UNIT = 13;
const HIGHEST = 30;
/** The height of a rack's head, where its name and the letters stand. */
export const HEAD = 34;
const GAP = 6;
const ROOM_GAP = 15;
const ROW_GAP = 22;
const NARROWEST = 78;
const WIDEST = 170;
/** Where a rack or two have all the room, names and marks are as large as they are anywhere. */
const WIDEST_IN_LINE = 320;
/** Room names keep their height on the screen: seen from far away the world leaves more room for them. */
const FAR_HEAD = 190;
const ROW_OF = 12;
/** So many racks stand in one line and share the width; more are laid out in rows to be zoomed into. */
const ONE_LINE = 12;

/** One rack as it is drawn. */
export interface RackPlan {
  room: string;
  rack: string;
  x: number;
  y: number;
  width: number;
  height: number;
  /** How high a unit is. */
  unit: number;
  rows: Rows;
  spots: Spot[];
}
/** One room as it is drawn: the racks it holds stand beside each other. */
export interface RoomPlan {
  room: string;
  x: number;
  y: number;
  width: number;
  height: number;
  racks: RackPlan[];
}
/** All rooms and racks, in world measures. */
export interface Plan {
  rooms: RoomPlan[];
  racks: RackPlan[];
  width: number;
  height: number;
}
/** A rectangle in world measures. */
export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
}

/** Names in the order people count: pair 2 before pair 10. */
export const byName = (a: string, b: string): number => a.localeCompare(b, "en", { numeric: true });

/** The servers of one rack, from the top unit down: the order in which the arrows walk. */
const walk = (spots: Spot[]): Spot[] => [...spots].sort((a, b) => b.unit - a.unit || byName(a.name, b.name));

/** Where everything stands. Rooms and racks by name; servers without a place come last. */
export function layOut(spots: Spot[], wide: number, high = 600): Plan {
  const rooms = new Map<string, Map<string, Spot[]>>();
  for (const spot of spots) {
    const room = rooms.get(spot.room) ?? new Map<string, Spot[]>();
    const rack = room.get(spot.rack) ?? [];
    rack.push(spot);
    rooms.set(spot.room, room.set(spot.rack, rack));
  }
  const order = [...rooms].sort(([a], [b]) => Number(!a) - Number(!b) || byName(a, b));
  const total = order.reduce((sum, [, racks]) => sum + racks.size, 0);
  if (total <= ONE_LINE) {
    const free = wide - (total - rooms.size) * GAP - (rooms.size - 1) * ROOM_GAP - 3;
    const width = Math.max(NARROWEST, Math.min(WIDEST_IN_LINE, free / Math.max(1, total)));
    const most = Math.max(
      1,
      ...order.flatMap(([, racks]) => [...racks.values()].map((r) => foldEmpty(r).count)),
    );
    const unit = Math.max(UNIT, Math.min(HIGHEST, (high - HEAD - 2) / most));
    return shelve(
      order.map(([room, racks]) =>
        block(room, racks, { width, inLine: total, head: HEAD, unit, rowsOf: foldEmpty }),
      ),
      order.length,
      ROOM_GAP,
    );
  }
  // Many racks: so many rooms beside each other as give the largest picture.
  let best: Plan | null = null;
  for (let columns = 1; columns <= Math.min(12, order.length); columns += 1) {
    const plan = shelve(
      order.map(([room, racks]) =>
        block(room, racks, {
          width: WIDEST,
          inLine: ROW_OF,
          head: FAR_HEAD,
          unit: UNIT,
          rowsOf: () => toScale,
        }),
      ),
      columns,
      WIDEST,
    );
    if (!best || fit(plan, wide, high).scale > fit(best, wide, high).scale) best = plan;
  }
  return best ?? shelve([], 1, 0);
}

/** How large what stands in a room is drawn. */
interface Size {
  width: number;
  unit: number;
  /** So many racks stand in a line, below a head of this height. */
  inLine: number;
  head: number;
  rowsOf: (spots: Spot[]) => Rows;
}

/** One room at the origin: its racks in lines of so many. */
function block(room: string, racks: Map<string, Spot[]>, size: Size): RoomPlan {
  const { width, inLine, head, unit, rowsOf } = size;
  const made = [...racks.keys()].sort(byName).map((rack, n): RackPlan => {
    const spots = walk(racks.get(rack) ?? []);
    const rows = rowsOf(spots);
    return {
      room,
      rack,
      width,
      unit,
      rows,
      spots,
      height: rows.count * unit,
      x: (n % inLine) * (width + GAP),
      y: head + Math.floor(n / inLine) * (UNITS * unit + ROW_GAP),
    };
  });
  return {
    room,
    x: 0,
    y: 0,
    width: Math.max(...made.map((r) => r.x + r.width)),
    height: Math.max(...made.map((r) => r.y + r.height)),
    racks: made,
  };
}

/** Rooms side by side, so many in a line, and lines below each other. */
function shelve(rooms: RoomPlan[], columns: number, gap: number): Plan {
  const plan: Plan = { rooms, racks: [], width: 0, height: 0 };
  let [x, y, line] = [0, 0, 0];
  rooms.forEach((room, n) => {
    if (n > 0 && n % columns === 0) [x, y, line] = [0, y + line + gap, 0];
    [room.x, room.y] = [x, y];
    for (const rack of room.racks) {
      rack.x += x;
      rack.y += y;
      plan.racks.push(rack);
    }
    x += room.width + gap;
    line = Math.max(line, room.height);
    plan.width = Math.max(plan.width, room.x + room.width);
    plan.height = Math.max(plan.height, room.y + room.height);
  });
  return plan;
}

/** A server's box in the world. Its unit is its lowest; one without a unit hangs at the top. */
export function boxOf(rack: RackPlan, spot: Spot): Box {
  const highest = Math.min(UNITS, spot.unit + spot.height - 1);
  const row = spot.unit ? (rack.rows.of[highest] ?? 0) : rack.spots.indexOf(spot);
  return { x: rack.x, y: rack.y + row * rack.unit, width: rack.width, height: spot.height * rack.unit };
}

/** The rack that a server stands in. */
export const rackOf = (plan: Plan, name: string | null): RackPlan | null =>
  name ? (plan.racks.find((rack) => rack.spots.some((s) => s.name === name)) ?? null) : null;

/** The server at a point of the world. */
export function spotAt(plan: Plan, x: number, y: number): Spot | null {
  const rack = plan.racks.find((r) => x >= r.x && x <= r.x + r.width && y >= r.y && y <= r.y + r.height);
  return (
    rack?.spots.find((spot) => {
      const box = boxOf(rack, spot);
      return y >= box.y && y < box.y + box.height;
    }) ?? null
  );
}

/** All servers that a frame touches. */
export function spotsIn(plan: Plan, frame: Box): Spot[] {
  const touches = (box: Box): boolean =>
    box.x < frame.x + frame.width &&
    box.x + box.width > frame.x &&
    box.y < frame.y + frame.height &&
    box.y + box.height > frame.y;
  return plan.racks
    .filter(touches)
    .flatMap((rack) => rack.spots.filter((spot) => touches(boxOf(rack, spot))));
}

/** The next server a key leads to: up and down the units, left and right to the unit nearest in height. */
export function step(plan: Plan, from: string | null, key: string): string | null {
  const rack = rackOf(plan, from);
  if (!rack) return plan.racks.find((r) => r.spots.length)?.spots[0]?.name ?? null;
  const at = rack.spots.findIndex((spot) => spot.name === from);
  const own = rack.spots[at];
  if (!own) return null;
  if (key === "Home") return rack.spots[0]?.name ?? null;
  if (key === "End") return rack.spots.at(-1)?.name ?? null;
  if (key === "ArrowUp" || key === "ArrowDown") {
    return (
      rack.spots[Math.min(rack.spots.length - 1, Math.max(0, at + (key === "ArrowUp" ? -1 : 1)))]?.name ??
      null
    );
  }
  const side = key === "ArrowLeft" ? -1 : 1;
  const racks = plan.racks.filter((r) => r.spots.length);
  const next = racks[racks.indexOf(rack) + side];
  if (!next) return own.name;
  return next.spots.reduce((best, spot) =>
    Math.abs(spot.unit - own.unit) < Math.abs(best.unit - own.unit) ? spot : best,
  ).name;
}

/** Everything between two servers, both included: within a rack by units, across racks all racks between. */
export function span(plan: Plan, from: string, to: string): string[] {
  const order = plan.racks.flatMap((rack) => rack.spots.map((spot) => spot.name));
  const [a, b] = [order.indexOf(from), order.indexOf(to)].sort((x, y) => x - y) as [number, number];
  return order.slice(Math.max(0, a), b + 1);
}

/** How the world is looked at: a point x, y of the world lies at (x - left) * scale. */
export interface Look {
  scale: number;
  left: number;
  top: number;
}

/** Everything in sight, never larger than life. */
export function fit(plan: Plan, wide: number, high: number): Look {
  return {
    scale: Math.min(1, wide / Math.max(1, plan.width), high / Math.max(1, plan.height)),
    left: 0,
    top: 0,
  };
}

/** How far and how close one can go: ten thousand servers on one sheet, units as high as a thumb. */
export const SCALES: [number, number] = [0.02, 1.7];

/** How an address says where one looks: the scale in thousandths, then the corner; nothing for everything. */
export const spellLook = (look: Look): string =>
  [look.scale * 1000, look.left, look.top].map(Math.round).join(".");

/** Where an address says that one looks; null for everything, and for what can't be read. */
export function readLook(said: string | null): Look | null {
  const [, scale = "", left = "", top = ""] = /^(\d+)\.(-?\d+)\.(-?\d+)$/.exec(said ?? "") ?? [];
  if (!scale) return null;
  const [least, most] = SCALES;
  return {
    scale: Math.min(most, Math.max(least, Number(scale) / 1000)),
    left: Number(left),
    top: Number(top),
  };
}

/** Closer or further, the point under the pointer staying where it is. */
export function zoom(look: Look, factor: number, x: number, y: number): Look {
  const scale = Math.min(SCALES[1], Math.max(SCALES[0], look.scale * factor));
  return { scale, left: look.left + x / look.scale - x / scale, top: look.top + y / look.scale - y / scale };
}

/** The same look, moved as little as needed to have a box in sight. */
export function reveal(look: Look, box: Box, wide: number, high: number): Look {
  const move = (start: number, size: number, at: number, seen: number): number =>
    at < start ? at : at + size > start + seen ? at + size - seen : start;
  return {
    ...look,
    left: move(look.left, box.width, box.x, wide / look.scale),
    top: move(look.top, box.height, box.y, high / look.scale),
  };
}
