import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import { useMutation } from "@tanstack/react-query";
import { type ChangeEvent, useRef, useState } from "react";

import type { components } from "../api/schema";
import { sendFile } from "../api/client";
import { size } from "../shell/format";
import { Notice } from "../ui/Notice";
import { Mono } from "../ui/text";
import { Row, Stack, Text } from "../ui/layout";
import { Section } from "../ui/Section";

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
    <Section title="Look into a package" gap={1}>
      <Row gap={1}>
        <TextField
          size="small"
          label="For server"
          value={server}
          onChange={(e) => setServer(e.target.value)}
        />
        <TextField size="small" label="Slot" value={slot} onChange={(e) => setSlot(e.target.value)} />
      </Row>
      <Box>
        <input ref={input} type="file" onChange={chosen} hidden aria-label="Package file" />
        <Button variant="outlined" onClick={() => input.current?.click()} loading={look.isPending}>
          Choose a file
        </Button>
      </Box>
      {look.error && <Notice title="Refused">{look.error.message}</Notice>}
      {look.data && <Told data={look.data} />}
    </Section>
  );
}

function Told({ data }: { data: Package }) {
  return (
    <Stack role="status" size="small" gap={0.5} breaks>
      <strong>{data.name}</strong>
      <Box>
        PLDM header revision {data.revision}, {size(data.size)}, checksums right
      </Box>
      {data.generation > 1 && <Box>signed in generation {data.generation}</Box>}
      {data.trailing > 0 && <Text tone="pending">{data.trailing} bytes follow the last image</Text>}
      {data.images.map((i) => (
        <Box key={i.version}>
          carries <Mono>{i.version}</Mono>, active by {i.activations.join(" or ") || "an unknown reset"}
        </Box>
      ))}
      {data.devices.map((d) => (
        <Text key={d} tone="quiet">
          for {d}
        </Text>
      ))}
      {data.downstream.map((d) => (
        <Text key={d} tone="quiet">
          and, behind it, for {d}
        </Text>
      ))}
      {data.fits && <Text tone="done">{data.fits}</Text>}
    </Stack>
  );
}
