import Box from "@mui/material/Box";

import { Refused } from "../api/client";
import { Notice } from "../ui/Notice";
import { Mono } from "../ui/text";

/** A refused file with everything that is wrong with it. */
export function Refusal({ error }: { error: Error }) {
  const faults = error instanceof Refused ? (error.problem.faults ?? []) : [];
  return (
    <Notice title="Not brought in; what is here stays">
      {error.message}
      {faults.length > 1 && (
        <Box
          component="ul"
          aria-label="Faults"
          sx={{ m: 0, mt: 0.5, pl: 2, maxHeight: 180, overflow: "auto" }}
          tabIndex={0}
        >
          {faults.map((f) => (
            <li key={`${f.place} ${f.what}`}>
              <Mono>{f.place}</Mono>: {f.what}
            </li>
          ))}
        </Box>
      )}
    </Notice>
  );
}
