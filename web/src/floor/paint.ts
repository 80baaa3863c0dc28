import type { Tokens } from "../theme/theme";
import type { Break } from "./folded";
import type { Lens } from "./lenses";
import { type Box, boxOf, HEAD, type Look, type Plan, type RackPlan, type RoomPlan } from "./plan";
import type { Mark, Spot } from "../waterline/spots";
import { FIXED, OFF } from "../waterline/words";

/** Looks up a token of the present scheme: a canvas knows no CSS variables. */
export type Ink = (name: keyof Tokens) => string;
/** Everything that one drawing of the racks depends on. */
export interface Scene {
  plan: Plan;
  look: Look;
  lens: Lens;
  selected: Set<string>;
  active: string | null;
  now: number;
  wide: number;
  high: number;
  frame: Box | null;
}

/** From how many pixels a unit on what is drawn: names and marks, names of racks, marks, one bar a server; below, a column a rack. */
export const NAMES_PX = 9;
const HEADS_PX = 7;
const MARKS_PX = 5;
const BARS_PX = 1.6;
const TITLE = "'Archivo Variable', sans-serif";
const TEXT = "'Atkinson Hyperlegible Next Variable', sans-serif";
const MONO = "'Atkinson Hyperlegible Mono Variable', monospace";

/** Draw what is in sight; what is not costs nothing. Returns how many servers were drawn one by one. */
export function paint(c: CanvasRenderingContext2D, scene: Scene, ink: Ink): number {
  const { look, wide, high } = scene;
  c.clearRect(0, 0, wide, high);
  let drawn = 0;
  for (const room of scene.plan.rooms) {
    if (!inSight(room, look, wide, high)) continue;
    paintRoom(c, scene, ink, room);
    for (const rack of room.racks)
      if (inSight(rack, look, wide, high)) drawn += paintRack(c, scene, ink, rack);
  }
  if (scene.frame) {
    const f = screen(scene.frame, look);
    c.strokeStyle = ink("water");
    c.setLineDash([4, 3]);
    c.strokeRect(f.x, f.y, f.width, f.height);
    c.setLineDash([]);
  }
  return drawn;
}

const inSight = (box: Box, look: Look, wide: number, high: number): boolean =>
  box.x < look.left + wide / look.scale &&
  box.x + box.width > look.left &&
  box.y - HEAD < look.top + high / look.scale &&
  box.y + box.height > look.top;

/** A box of the plan, in pixels of the page. */
export const screen = (box: Box, look: Look): Box => ({
  x: (box.x - look.left) * look.scale,
  y: (box.y - look.top) * look.scale,
  width: box.width * look.scale,
  height: box.height * look.scale,
});

/** A text that fits: shortened at its end if it must be. */
function write(c: CanvasRenderingContext2D, text: string, x: number, y: number, room: number): void {
  if (room < 8) return;
  let shown = text;
  while (shown.length > 1 && c.measureText(shown).width > room) shown = `${shown.slice(0, -2)}…`;
  c.fillText(shown, x, y);
}

function paintRoom(c: CanvasRenderingContext2D, { look }: Scene, ink: Ink, room: RoomPlan): void {
  const at = screen(room, look);
  const many = room.racks.reduce((n, rack) => n + rack.spots.length, 0);
  const off = room.racks.reduce((n, rack) => n + rack.spots.filter((s) => s.off).length, 0);
  c.fillStyle = ink("ink");
  c.font = `700 13px ${TITLE}`;
  const name = room.room ? `${room.room}${room.room.includes(" ") ? "" : " room"}` : "No place named";
  const first = room.racks[0];
  const y = Math.max(
    11,
    first ? (first.y - look.top) * look.scale - (first.unit * look.scale >= HEADS_PX ? 22 : 5) : at.y + 11,
  );
  write(c, name, at.x, y, at.width - 4);
  const used = Math.min(c.measureText(name).width, at.width) + 10;
  c.font = `12px ${TEXT}`;
  c.fillStyle = ink("ink2");
  write(c, `${many} servers, ${off} off`, at.x + used, y, at.width - used);
}

function paintRack(c: CanvasRenderingContext2D, scene: Scene, ink: Ink, rack: RackPlan): number {
  const at = screen(rack, scene.look);
  const unit = rack.unit * scene.look.scale;
  c.fillStyle = ink("sheet");
  c.fillRect(at.x, at.y, at.width, at.height);
  if (unit >= BARS_PX && unit < MARKS_PX) rack.spots.forEach((spot) => paintBar(c, scene, ink, rack, spot));
  else if (unit >= MARKS_PX) rack.spots.forEach((spot) => paintUnit(c, scene, ink, rack, spot, unit));
  else paintColumn(c, scene, ink, rack, at);
  if (unit >= NAMES_PX) for (const fold of rack.rows.breaks) paintBreak(c, ink, at, fold, unit);
  c.strokeStyle = ink("ink");
  c.lineWidth = unit >= MARKS_PX ? 1.2 : 0.6;
  c.strokeRect(at.x, at.y, at.width, at.height);
  c.font = `600 12px ${TITLE}`;
  c.fillStyle = ink("ink");
  if (unit >= HEADS_PX) write(c, rack.rack || "–", at.x + 1, at.y - 4, at.width * 0.6);
  if (unit >= NAMES_PX && scene.lens.name === "waterline") paintLetters(c, ink, at, unit);
  return unit >= BARS_PX ? rack.spots.length : 0;
}

/** Empty units in one row: their numbers, and the rack's sides drawn as broken there. */
function paintBreak(c: CanvasRenderingContext2D, ink: Ink, at: Box, fold: Break, unit: number): void {
  const y = at.y + fold.row * unit;
  c.fillStyle = ink("paper");
  c.fillRect(at.x, y + unit * 0.12, at.width, unit * 0.76);
  c.strokeStyle = ink("rule");
  c.lineWidth = 1;
  for (const edge of [y + unit * 0.12, y + unit * 0.88]) {
    c.beginPath();
    c.moveTo(at.x, edge);
    for (let x = 0; x <= at.width; x += 4) c.lineTo(at.x + x, edge + ((x / 4) % 2 ? 1.6 : -1.6));
    c.stroke();
  }
  c.font = `${Math.min(11, unit * 0.62)}px ${MONO}`;
  c.fillStyle = ink("ink2");
  c.textAlign = "center";
  c.fillText(`${fold.from}–${fold.to}`, at.x + at.width / 2, y + unit / 2 + Math.min(11, unit * 0.62) * 0.35);
  c.textAlign = "left";
}

/** How far apart the marks of a row stand, and where the first one begins. */
function pitchOf(width: number): { pitch: number; start: number; mark: number } {
  const pitch = Math.max(7, Math.min(17, (width - Math.min(60, width * 0.47)) / 6));
  return { pitch, start: width - 6 * pitch - 1, mark: Math.max(5.2, Math.min(11, pitch - 1.9)) };
}

function paintLetters(c: CanvasRenderingContext2D, ink: Ink, at: Box, unit: number): void {
  const { pitch, start, mark } = pitchOf(at.width);
  c.font = `700 ${Math.min(10.5, unit * 0.85)}px ${TITLE}`;
  c.fillStyle = ink("ink2");
  c.textAlign = "center";
  FIXED.forEach(([letter], n) => c.fillText(letter, at.x + start + n * pitch + mark / 2, at.y - 4));
  c.textAlign = "left";
}

/** Far away: a rack is a column, filled from the ground by how many servers each tone has, the worst on top. */
function paintColumn(c: CanvasRenderingContext2D, scene: Scene, ink: Ink, rack: RackPlan, at: Box): void {
  const tones = new Map<string, number>();
  for (const spot of rack.spots) {
    const { tone } = scene.lens.view(spot, scene.now);
    tones.set(tone, (tones.get(tone) ?? 0) + 1);
  }
  let y = at.y + at.height;
  const order: string[] = ["rule", "water", "done", "ink2", "ahead", "routine", "pending", "deep"];
  for (const [tone, n] of [...tones].sort(([a], [b]) => order.indexOf(a) - order.indexOf(b))) {
    const high = (at.height * n) / Math.max(rack.spots.length, 40);
    y -= high;
    c.fillStyle = ink(tone as keyof Tokens);
    c.fillRect(at.x, y, at.width, high);
  }
  if (rack.spots.some((spot) => scene.selected.has(spot.name))) {
    c.strokeStyle = ink("water");
    c.lineWidth = 2;
    c.strokeRect(at.x - 1, at.y - 1, at.width + 2, at.height + 2);
  }
}

function paintBar(c: CanvasRenderingContext2D, scene: Scene, ink: Ink, rack: RackPlan, spot: Spot): void {
  const at = screen(boxOf(rack, spot), scene.look);
  const { tone, part } = scene.lens.view(spot, scene.now);
  if (scene.selected.has(spot.name)) {
    c.fillStyle = ink("water2");
    c.fillRect(at.x, at.y, at.width, at.height);
  }
  c.fillStyle = ink(tone);
  c.fillRect(
    at.x + 1,
    at.y + at.height * 0.2,
    Math.max(2, (at.width - 2) * Math.max(0.12, part)),
    Math.max(1, at.height * 0.6),
  );
}

function paintUnit(
  c: CanvasRenderingContext2D,
  scene: Scene,
  ink: Ink,
  rack: RackPlan,
  spot: Spot,
  unit: number,
): void {
  const at = screen(boxOf(rack, spot), scene.look);
  const chosen = scene.selected.has(spot.name);
  if (chosen) {
    c.fillStyle = ink("water2");
    c.fillRect(at.x + 0.6, at.y, at.width - 1.2, at.height);
  }
  c.strokeStyle = ink("rule");
  c.lineWidth = 0.8;
  c.beginPath();
  c.moveTo(at.x, at.y + at.height);
  c.lineTo(at.x + at.width, at.y + at.height);
  c.stroke();
  const named = unit >= NAMES_PX;
  if (scene.lens.name === "waterline" && spot.failure && !spot.read) paintFailure(c, ink, at, spot, named);
  else if (scene.lens.name === "waterline") paintMarks(c, ink, at, spot, named, unit);
  else paintView(c, scene, ink, at, spot, named);
  if (named) paintName(c, scene, ink, at, spot, unit);
  if (scene.active === spot.name) {
    c.strokeStyle = ink("water");
    c.lineWidth = 1.8;
    c.strokeRect(at.x + 0.9, at.y + 0.9, at.width - 1.8, at.height - 1.8);
  }
}

function paintName(
  c: CanvasRenderingContext2D,
  scene: Scene,
  ink: Ink,
  at: Box,
  spot: Spot,
  unit: number,
): void {
  const { start } = pitchOf(at.width);
  const room = (scene.lens.name === "waterline" ? start : at.width * 0.5) - 5;
  const mark = spot.running ? "▸" : spot.lost ? "!" : "";
  const size = Math.min(12, unit * 0.9);
  c.font = `600 ${size}px ${TITLE}`;
  c.fontStretch = "normal";
  if (c.measureText(mark + spot.name).width > room) c.fontStretch = "extra-condensed";
  const needed = c.measureText(mark + spot.name).width;
  if (needed > room) {
    c.font = `600 ${Math.max(8.5, (size * room) / needed)}px ${TITLE}`;
    c.fontStretch = "extra-condensed"; // setting the font sets the stretch back
  }
  c.fillStyle = spot.failure ? ink("deep") : spot.running ? ink("water") : ink("ink");
  const middle = at.y + at.height / 2 + size * 0.36;
  // The end of a name tells it from its neighbours: that stays when there is no room for all of it.
  const fits = c.measureText(mark + spot.name).width <= room + 1;
  write(
    c,
    fits ? mark + spot.name : `${mark}${spot.name.slice(0, 2)}…${spot.name.slice(-2)}`,
    at.x + 3,
    middle,
    room + 1,
  );
  c.fontStretch = "normal";
}

/** Never read: instead of marks the cause, in few letters. */
function paintFailure(c: CanvasRenderingContext2D, ink: Ink, at: Box, spot: Spot, named: boolean): void {
  const { start } = pitchOf(at.width);
  const x = at.x + (named ? start : 2);
  c.fillStyle = ink("deep");
  if (!named) return c.fillRect(x, at.y + at.height / 2 - 0.8, at.width - 4, 1.6);
  c.font = `10px ${TITLE}`;
  c.fontStretch = "extra-condensed";
  write(c, spot.failure, x, at.y + at.height / 2 + 3.6, at.x + at.width - x - 1);
  c.fontStretch = "normal";
}

function paintMarks(
  c: CanvasRenderingContext2D,
  ink: Ink,
  at: Box,
  spot: Spot,
  named: boolean,
  unit: number,
): void {
  const { pitch, start, mark } = named
    ? pitchOf(at.width)
    : { pitch: at.width / 6, start: 2, mark: at.width / 6 - 4 };
  const base = at.y + at.height / 2 - unit * 0.14;
  spot.marks.slice(0, 6).forEach((m, n) => paintMark(c, ink, m, at.x + start + n * pitch, base, mark, unit));
  const other = spot.marks.slice(6).find((m) => OFF.has(m.verdict));
  if (other && named && at.height > unit)
    paintMark(c, ink, other, at.x + start + 5 * pitch, base + unit * 0.9, mark, unit);
}

/** The waterline on canvas: the same shapes as ``Glyph``. */
function paintMark(
  c: CanvasRenderingContext2D,
  ink: Ink,
  mark: Mark,
  x: number,
  y: number,
  w: number,
  unit: number,
): void {
  const deep = Math.min(4, Math.max(1, mark.behind)) * unit * 0.13 + unit * 0.1;
  const line = (tone: keyof Tokens, thick: number): void => {
    c.strokeStyle = ink(tone);
    c.lineWidth = thick;
    c.beginPath();
    c.moveTo(x, y);
    c.lineTo(x + w, y);
    c.stroke();
  };
  const bar = (tone: keyof Tokens): void => {
    c.fillStyle = ink(tone);
    c.fillRect(x + 1, y, w - 2, deep);
  };
  switch (mark.verdict) {
    case "level":
      return line("water", 1.5);
    case "behind":
      bar("routine");
      return line("ink", 1);
    case "exposed":
      bar("deep");
      return line("ink", 1);
    case "ahead":
      c.fillStyle = ink("ahead");
      c.fillRect(x + 1, y - unit * 0.3, w - 2, unit * 0.3);
      return line("ink", 1);
    case "pending":
      bar("pending2");
      c.strokeStyle = ink("pending");
      c.lineWidth = 1.1;
      c.strokeRect(x + 1, y, w - 2, deep);
      return line("ink", 1);
    case "held":
      line("ink2", 1);
      c.fillStyle = ink("sheet");
      c.strokeStyle = ink("ink");
      c.lineWidth = 1;
      c.beginPath();
      c.arc(x + w / 2, y, Math.min(2.6, unit * 0.19), 0, 7);
      c.fill();
      return c.stroke();
    case "unlisted":
      c.setLineDash([2, 1.6]);
      line("ink2", 1.3);
      return c.setLineDash([]);
    case "unordered":
      c.strokeStyle = ink("ink2");
      c.lineWidth = 1.3;
      c.beginPath();
      c.moveTo(x, y + 2.5);
      c.lineTo(x + w, y - 2.5);
      return c.stroke();
    case "stranded":
      bar("routine");
      line("ink", 1);
      c.strokeStyle = ink("sheet");
      c.lineWidth = 1.5;
      c.beginPath();
      c.moveTo(x, y + deep);
      c.lineTo(x + w, y);
      return c.stroke();
    default:
      c.fillStyle = ink("ink3");
      c.fillRect(x + w / 2 - 0.8, y - 0.8, 1.6, 1.6);
  }
}

/** Any other lens: a small gauge and its word. */
function paintView(
  c: CanvasRenderingContext2D,
  scene: Scene,
  ink: Ink,
  at: Box,
  spot: Spot,
  named: boolean,
): void {
  const { tone, text, part } = scene.lens.view(spot, scene.now);
  const x = at.x + (named ? at.width * 0.5 : 2);
  const middle = at.y + at.height / 2;
  const gauge = named ? Math.min(12, at.width * 0.09) : at.width - 4;
  c.strokeStyle = ink(tone === "rule" ? "ink3" : tone);
  c.lineWidth = 0.8;
  c.strokeRect(x, middle - 2.2, gauge, 4.4);
  c.fillStyle = ink(tone === "rule" ? "ink3" : tone);
  c.fillRect(x, middle - 2.2, gauge * part, 4.4);
  if (!named) return;
  c.font = `10.5px ${scene.lens.name === "exposure" || scene.lens.name === "age" ? MONO : TEXT}`;
  c.fillStyle = ink(tone === "deep" ? "deep" : "ink2");
  const room = at.x + at.width - x - gauge - 5;
  if (c.measureText(text).width > room) {
    c.font = `10.5px ${TITLE}`;
    c.fontStretch = "extra-condensed";
  }
  write(c, text, x + gauge + 3, middle + 3.8, room);
  c.fontStretch = "normal";
}
