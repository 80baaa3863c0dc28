import Box from "@mui/material/Box";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";

import { sendFile, type ServerDetail } from "../api/client";
import { ago, count } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Title } from "../ui/text";
import { useSelection } from "../shell/selection";
import { useSiteNow } from "../shell/time";
import { Stack, Text } from "../ui/layout";

interface Brought {
  server: string;
  matched: number;
  added: string[];
  differs: string[];
}

/** What the server's own system says of its devices; it finds its server by itself. */
export function HostReport({ server }: { server: ServerDetail }) {
  const now = useSiteNow(15_000);
  const file = useRef<HTMLInputElement>(null);
  const queries = useQueryClient();
  const { select } = useSelection();
  const bring = useMutation({
    mutationFn: (chosen: File) => sendFile<Brought>("/api/v1/host-reports", chosen),
    onSuccess: async (told) => {
      await queries.invalidateQueries();
      select([told.server]);
    },
  });
  const told = bring.data;
  return (
    <Stack ruled="ink" pt={1.25} gap={0.75}>
      <Title level={3}>Host report</Title>
      <Text size="note" tone="quiet">
        {server.reported_at
          ? `Made inside its system ${ago(server.reported_at, now)}; laid over every reading.`
          : "Some devices don't show themselves to the controller. Run ordnung host-report inside the server's system and bring the file in."}
      </Text>
      <input
        ref={file}
        type="file"
        aria-label="Host report file"
        hidden
        accept=".json,application/json"
        onChange={(e) => {
          const chosen = e.target.files?.[0];
          if (chosen) bring.mutate(chosen);
          e.target.value = "";
        }}
      />
      <Box>
        <Act takes="plan" variant="outlined" onClick={() => file.current?.click()} loading={bring.isPending}>
          Bring in a host report
        </Act>
      </Box>
      {told && (
        <Text role="status" size="small">
          {count(told.matched, "device")} of {told.server} matched, {told.added.length} new
          {told.added.length > 0 && `: ${told.added.join(", ")}`}.
          {told.differs.length > 0 && ` Differs: ${told.differs.join("; ")}.`}
        </Text>
      )}
      {bring.error && <Notice>{bring.error.message}</Notice>}
    </Stack>
  );
}
