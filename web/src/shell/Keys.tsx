import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import { useLocation } from "react-router";

import { Title } from "./parts";

const EVERYWHERE: [string, string][] = [
  ["/", "find anything, or do it"],
  ["w", "all work under way"],
  ["?", "these keys"],
  ["Esc", "close what is open"],
];
const PLACE: Record<string, [string, string][]> = {
  "/floor": [
    ["↑ ↓ ← →", "walk units and racks"],
    ["Shift + arrows", "extend the selection"],
    ["Ctrl + click", "take in or out"],
    ["drag", "frame several"],
    ["a", "all in the rack"],
    ["+ − 0", "closer, further, everything"],
    ["wheel", "closer, further"],
    ["Alt + drag", "move the sheet"],
  ],
  "/drift": [
    ["Tab, Enter", "show the release line of a cell's product"],
    ["Enter on a release", "read about it, and who is on it"],
  ],
  "/repository": [
    ["Enter on a piece of the bar", "leave it out, or pack it"],
    ["Tab, Enter in the list", "leave out a single payload"],
  ],
  "/baseline": [
    ["← → Home End", "move the pin in focus"],
    ["Alt + ↑ ↓", "move the rule in focus"],
  ],
};

/** The keys of the place. */
export function Keys({ open, close }: { open: boolean; close: () => void }) {
  const { pathname } = useLocation();
  const rows = [...(PLACE[pathname] ?? []), ...EVERYWHERE];
  return (
    <Dialog open={open} onClose={close} aria-labelledby="keys-title">
      <Box sx={{ p: 3, display: "grid", gap: 2, minWidth: 340 }}>
        <Title level={2} id="keys-title">
          Keys of this place
        </Title>
        <Box
          component="dl"
          sx={{
            display: "grid",
            gridTemplateColumns: "auto 1fr",
            columnGap: 2.5,
            rowGap: 0.75,
            m: 0,
            "& dd": { m: 0 },
          }}
        >
          {rows.map(([key, what]) => [
            <dt key={key}>
              <kbd>{key}</kbd>
            </dt>,
            <dd key={what}>{what}</dd>,
          ])}
        </Box>
        <Box>
          <Button variant="outlined" onClick={close}>
            Close
          </Button>
        </Box>
      </Box>
    </Dialog>
  );
}
