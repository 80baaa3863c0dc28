/** The keys that work everywhere, and what they do. */
export const EVERYWHERE: [string, string][] = [
  ["/", "find anything, or do it"],
  ["w", "all work under way"],
  ["?", "these keys"],
  ["Tab, Enter, Space", "go to a control, press it"],
  ["Esc", "close what is open"],
];

/** The keys of each place, by the beginning of its address. A test looks for each key that the code answers. */
export const OF_PLACE: Record<string, [string, string][]> = {
  floor: [
    ["↑ ↓ ← →", "walk units and racks"],
    ["Home End", "the top of the rack, its bottom"],
    ["Shift + arrows", "extend the selection"],
    ["Ctrl + click", "take in or out"],
    ["drag", "frame several"],
    ["a", "all in the rack"],
    ["Esc", "select nothing"],
    ["h", "the history of the server that is selected"],
    ["+ − 0", "closer, further, everything"],
    ["wheel", "closer, further"],
    ["Alt + drag", "move the sheet"],
    ["↑ ↓ Home End, Page ↑ ↓", "walk the rows of the table"],
    ["Space, Enter", "take a row in or out, or it alone"],
  ],
  drift: [
    ["Tab, Enter", "show the release line of a cell's product"],
    ["Enter on a release", "read about it, and who is on it"],
  ],
  repository: [
    ["Enter on a piece of the bar", "leave it out, or pack it"],
    ["Tab, Enter in the list", "leave out a single payload"],
  ],
  baseline: [
    ["← → Home End", "move the pin in focus"],
    ["Alt + ↑ ↓", "move the rule in focus"],
  ],
  "run-sheet": [
    ["↑ ↓ Home End", "walk bands and lanes"],
    ["→ ←", "open a band, fold it"],
    ["Enter, Space", "look at a lane, open or fold a band"],
    ["+ − 0", "closer, further, the whole run"],
    ["n", "follow now"],
    ["Shift + ← →", "earlier, later"],
    ["Alt + ← →", "a lane of a draft begins earlier, later; drag does the same"],
    ["Alt + ↑ ↓ on a server", "it goes with another wave"],
    ["Ctrl + wheel, pinch", "closer, further"],
  ],
};

/** The keys that work at an address, those of the place first. */
export const keysAt = (pathname: string): [string, string][] => [
  ...(OF_PLACE[pathname.split("/")[1] ?? ""] ?? []),
  ...EVERYWHERE,
];
