import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import { useLocation } from "react-router";

import { Facts } from "../ui/Facts";
import { keysAt } from "./keys";
import { Title } from "../ui/text";

/** The keys of the place. */
export function KeysDialog({ open, close }: { open: boolean; close: () => void }) {
  const { pathname } = useLocation();
  return (
    <Dialog open={open} onClose={close} aria-labelledby="keys-title">
      <Box sx={{ p: 3, display: "grid", gap: 2, minWidth: 340 }}>
        <Title level={2} id="keys-title">
          Keys of this place
        </Title>
        <Facts rows={keysAt(pathname).map(([key, what]) => [<kbd key={key}>{key}</kbd>, what])} />
        <Box>
          <Button variant="outlined" onClick={close}>
            Close
          </Button>
        </Box>
      </Box>
    </Dialog>
  );
}
