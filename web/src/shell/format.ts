/** Sizes in the units people carry them in. */
export function size(bytes: number): string {
  if (bytes >= 1e9) return `${(bytes / 1e9).toFixed(2)} GB`;
  if (bytes >= 1e6) return `${(bytes / 1e6).toFixed(1)} MB`;
  return bytes > 0 ? `${Math.max(1, Math.round(bytes / 1e3))} kB` : "0 kB";
}

/** "4 min", "1 h 20 min"; below a minute in seconds. */
export function duration(seconds: number): string {
  if (seconds < 60) return `${Math.max(0, Math.round(seconds))} s`;
  const minutes = Math.round(seconds / 60);
  return minutes < 60 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${minutes % 60} min`;
}

// Made once: making one takes a hundred times as long as using it, and a sheet tells hundreds of moments.
const MINUTES = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });
const MOMENTS = new Intl.DateTimeFormat("en-GB", { timeStyle: "medium" });
const DAYS = new Intl.DateTimeFormat("en-GB", { weekday: "short", day: "numeric", month: "short" });

const tell = (as: Intl.DateTimeFormat, time: Date): string =>
  Number.isNaN(time.valueOf()) ? "no time" : as.format(time);

/** "07:46", or with seconds. */
export const clock = (time: Date, seconds = false): string => tell(seconds ? MOMENTS : MINUTES, time);

/** "Fri, 26 Nov". */
export const day = (time: Date): string => tell(DAYS, time);

const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/** "Oct 26" for a date as the API spells it. */
export const month = (date: string): string =>
  `${MONTHS[Number(date.slice(5, 7)) - 1] ?? ""} ${date.slice(2, 4)}`;

/** "3 min ago" by the site's clock. */
export function ago(then: string, now: number): string {
  const seconds = (now - Date.parse(then)) / 1000;
  if (seconds < 90) return "just now";
  return seconds < 86_400 * 2 ? `${duration(seconds)} ago` : `${Math.round(seconds / 86_400)} days ago`;
}

/** "1 server", "3 servers", "2 repositories". */
export const count = (n: number, word: string): string =>
  `${n} ${n === 1 ? word : word.endsWith("ory") ? `${word.slice(0, -1)}ies` : `${word}s`}`;

/** The form that goes with a number: one misses, several miss. */
export const agree = (n: number, one: string, many: string): string => (n === 1 ? one : many);

/** Up to three names as they are, more by their number: "surge-07, -08" / "13 servers, chart-10 and others". */
export const fewNames = (names: string[]): string =>
  names.length <= 3 ? foldNames(names) : `${names.length} servers, ${names[0]} and others`;

/** The first of many names, and how many more there are. */
export const someNames = (names: string[], most = 24): string =>
  names.slice(0, most).join(", ") +
  (names.length > most ? ` and ${(names.length - most).toLocaleString("en-GB")} more` : "");

/** "surge-07, -08" / "surge-01 … -10": equal servers in one row. */
export function foldNames(names: string[]): string {
  const first = names[0] ?? "";
  const stem = first.replace(/\d+$/, "");
  const short = (name: string) => (stem && name.startsWith(stem) ? `-${name.slice(stem.length)}` : name);
  if (names.length <= 3) return [first, ...names.slice(1).map(short)].join(", ");
  return `${first} … ${short(names[names.length - 1] ?? "")}`;
}

/** "drive-00 … -03, -05": names of one stem, told as ranges where they follow each other; none is told that is not there. */
export function foldRuns(names: string[]): string {
  const stem = names[0]?.replace(/\d+$/, "") ?? "";
  const numberOf = (name: string) => Number(name.slice(stem.length) || NaN);
  const short = (name: string) => (name === names[0] ? name : `-${name.slice(stem.length)}`);
  const runs: string[][] = [];
  for (const name of names) {
    const run = runs.at(-1);
    if (run && numberOf(name) === numberOf(run.at(-1) ?? "") + 1) run.push(name);
    else runs.push([name]);
  }
  const tell = (run: string[]) =>
    run.length < 3 ? run.map(short).join(", ") : `${short(run[0] ?? "")} … ${short(run.at(-1) ?? "")}`;
  return runs.map(tell).join(", ");
}

/** The window that is open with what is left of it, or when the next one opens. */
export function tellWindow(window: { start: string; end: string } | null, now: number): string {
  if (!window) return "no window kept";
  const [start, end] = [Date.parse(window.start), Date.parse(window.end)];
  if (now >= end) return "the window is over";
  if (now >= start) return `window open, ${duration((end - now) / 1000)} left`;
  const away = (start - now) / 1000;
  return away < 86_400
    ? `window in ${duration(away)}`
    : `window ${day(new Date(start))} ${clock(new Date(start))}`;
}
