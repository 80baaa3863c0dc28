import { useMutation, useQueryClient } from "@tanstack/react-query";

import { api, type ServerDetail, take } from "../api/client";
import { ALOUD } from "../api/refused";
import { Act } from "../ui/Act";
import { Stack } from "../ui/layout";
import { Notice } from "../ui/Notice";
import { Mono } from "../ui/text";
import { Credentials } from "./Credentials";
import { readAgain } from "./reading";

/** Whether credentials are what is missing. */
export const wantsCredentials = (cause: string | undefined): boolean =>
  cause === "signed out" || cause === "password to be changed" || cause === "no credentials";

const told = (serial: string | null, uuid: string | null) =>
  [serial && `serial ${serial}`, uuid && `UUID ${uuid}`].filter(Boolean).join(", ");

/** Why a server can't be read, and what a person can settle about that. */
export function Unread({ server }: { server: ServerDetail }) {
  const { failure } = server;
  if (!failure) return null;
  return (
    <Notice title={`${failure.cause}`}>
      {failure.detail}. {failure.remedy}
      <Settle server={server} />
    </Notice>
  );
}

/** What a person can accept or enter so that a server is spoken to again. */
export function Settle({ server }: { server: ServerDetail }) {
  const queries = useQueryClient();
  const { failure, seen_pin: seen } = server;
  const trust = useMutation({
    meta: ALOUD,
    mutationFn: async (pin: string) => {
      await take(
        api.POST("/api/v1/servers/{name}/trust", { params: { path: { name: server.name } }, body: { pin } }),
      );
      // Of one that was known by another certificate the password is asked for first.
      if (!server.pin) await readAgain([server.name]);
    },
    onSuccess: () => queries.invalidateQueries(),
  });
  const board = useMutation({
    meta: ALOUD,
    mutationFn: async () => {
      await take(
        api.POST("/api/v1/servers/{name}/board", {
          params: { path: { name: server.name } },
          body: { uuid: server.seen_uuid ?? "", serial: server.seen_serial ?? "" },
        }),
      );
      await readAgain([server.name]);
    },
    onSuccess: () => queries.invalidateQueries(),
  });
  if (!failure) return null;
  return (
    <>
      {failure.cause.startsWith("certificate") && seen && (
        <Stack mt={1} size="fine" left>
          {server.pin && <Mono>known {server.pin}</Mono>}
          <Mono>shown {seen}</Mono>
          <Act takes="approve" variant="outlined" sx={{ mt: 1 }} onClick={() => trust.mutate(seen)}>
            Accept the shown certificate
          </Act>
        </Stack>
      )}
      {failure.cause === "another server" && (
        <Stack mt={1} size="fine" left>
          <Mono>known {told(server.serial, server.uuid)}</Mono>
          <Mono>shown {told(server.seen_serial, server.seen_uuid)}</Mono>
          <Act takes="approve" variant="outlined" sx={{ mt: 1 }} onClick={() => board.mutate()}>
            It is {server.name} with another board
          </Act>
        </Stack>
      )}
      {wantsCredentials(failure.cause) && <Credentials names={[server.name]} user={server.user} open />}
    </>
  );
}
