import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation } from "@tanstack/react-query";
import { type ChangeEvent, useRef, useState } from "react";

import type { components } from "../api/schema";
import { sendFile } from "../api/client";
import { size } from "../shell/format";
import { Notice } from "../ui/Notice";
import { Mono, Title } from "../ui/text";
import { ink } from "../theme/theme";

type Package = components["schemas"]["Package"];

/** Look into one package before trusting it: what it says of itself, and whether it is for a component. */
export function LookInside() {
  const [server, setServer] = useState("");
  const [slot, setSlot] = useState("");
  const input = useRef<HTMLInputElement>(null);
  const look = useMutation({
    mutationFn: (file: File) => sendFile<Package>("/api/v1/packages", file, { server, slot }),
  });
  const chosen = (event: ChangeEvent<HTMLInputElement>) => {
    const file = event.target.files?.[0];
    if (file) look.mutate(file);
    event.target.value = "";
  };
  return (
    <Box component="section" sx={{ display: "grid", gap: 1 }}>
      <Title level={2}>Look into a package</Title>
      <Box sx={{ display: "flex", gap: 1 }}>
        <TextField
          size="small"
          label="For server"
          value={server}
          onChange={(e) => setServer(e.target.value)}
        />
        <TextField size="small" label="Slot" value={slot} onChange={(e) => setSlot(e.target.value)} />
      </Box>
      <Box>
        <input ref={input} type="file" onChange={chosen} hidden aria-label="Package file" />
        <Button variant="outlined" onClick={() => input.current?.click()} loading={look.isPending}>
          Choose a file
        </Button>
      </Box>
      {look.error && <Notice title="Refused">{look.error.message}</Notice>}
      {look.data && <Told data={look.data} />}
    </Box>
  );
}

function Told({ data }: { data: Package }) {
  return (
    <Box role="status" sx={{ fontSize: 13, display: "grid", gap: 0.5, overflowWrap: "anywhere" }}>
      <strong>{data.name}</strong>
      <Box>
        PLDM header revision {data.revision}, {size(data.size)}, checksums right
      </Box>
      {data.generation > 1 && <Box>signed in generation {data.generation}</Box>}
      {data.trailing > 0 && (
        <Box sx={{ color: ink("pending") }}>{data.trailing} bytes follow the last image</Box>
      )}
      {data.images.map((i) => (
        <Box key={i.version}>
          carries <Mono>{i.version}</Mono>, active by {i.activations.join(" or ") || "an unknown reset"}
        </Box>
      ))}
      {data.devices.map((d) => (
        <Box key={d} sx={{ color: "text.secondary" }}>
          for {d}
        </Box>
      ))}
      {data.downstream.map((d) => (
        <Box key={d} sx={{ color: "text.secondary" }}>
          and, behind it, for {d}
        </Box>
      ))}
      {data.fits && <Box sx={{ color: ink("done") }}>{data.fits}</Box>}
    </Box>
  );
}
