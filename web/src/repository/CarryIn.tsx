import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Arrival, take } from "../api/client";
import { site as siteQuery } from "../api/queries";
import { arrivals as arrivalsQuery, repository as repositoryQuery } from "./queries";
import { FileButton } from "../shell/FileButton";
import { ago, size } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono, Title } from "../ui/text";
import { upload } from "./upload";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Press } from "../ui/Press";

type Body = { place?: string; upload?: string };

/** Carry a repository in: sent from here in pieces, or from a path on the machine Ordnung runs on. */
export function CarryIn({ show, close }: { show: (id: number) => void; close: (() => void) | null }) {
  const queries = useQueryClient();
  const { data = [] } = useQuery(arrivalsQuery);
  const [place, setPlace] = useState("");
  const [sent, setSent] = useState<{ name: string; received: number; size: number } | null>(null);
  const renew = () => queries.invalidateQueries({ queryKey: ["repositories"] });
  const begin = (body: Body) =>
    take(
      api.POST("/api/v1/arrivals", {
        body: { place: "", upload: "", trust: "", expired_reason: "", ...body },
      }),
    );
  const from = useMutation({ mutationFn: () => begin({ place }), onSuccess: renew });
  const send = useMutation({
    mutationFn: async (file: File) => {
      const id = await upload(file, (received) => setSent({ name: file.name, received, size: file.size }));
      setSent(null);
      return begin({ upload: id });
    },
    onSuccess: renew,
    onError: () => setSent(null),
  });
  return (
    <Stack maxWidth={820} gap={1.5}>
      <Row gap={1.5} align="baseline">
        <Title>Carry a repository in</Title>
        {close && (
          <Block ml="auto">
            <Button variant="outlined" onClick={close}>
              Back
            </Button>
          </Block>
        )}
      </Row>
      <Text tone="quiet">
        An archive, a disc image or a folder that was written out elsewhere. It is verified whole before
        anything is stored; what is here already is not stored again. Of several media, carry in one after the
        other.
      </Text>
      <Row gap={1} align="center" wrap>
        <FileButton
          takes="keep"
          label="Send a file from here"
          name="Repository file"
          accept=".tar,.zst,.iso"
          pending={send.isPending}
          chosen={([file]) => file && send.mutate(file)}
        />
        <Text tone="quiet">or</Text>
        <Box
          component="form"
          aria-label="From this machine"
          onSubmit={(e) => {
            e.preventDefault();
            from.mutate();
          }}
          sx={{ display: "flex", gap: 1, flex: 1, minWidth: 320 }}
        >
          <TextField
            size="small"
            label="Path on the machine Ordnung runs on"
            value={place}
            onChange={(e) => setPlace(e.target.value)}
            sx={{ flex: 1 }}
          />
          <Act
            takes="keep"
            type="submit"
            variant="outlined"
            why={place ? null : "Say where it lies first."}
            loading={from.isPending}
          >
            Carry in
          </Act>
        </Box>
      </Row>
      {sent && (
        <Box role="status">
          Sending <strong>{sent.name}</strong>:{" "}
          <Mono>
            {size(sent.received)} of {size(sent.size)}
          </Mono>
          . Cut off, choose the same file again and it goes on.
          <LinearProgress
            variant="determinate"
            aria-label={`Sending ${sent.name}`}
            value={(100 * sent.received) / sent.size}
            sx={{ mt: 0.5 }}
          />
        </Box>
      )}
      {(send.error ?? from.error) && (
        <Notice title="Not carried in">{(send.error ?? from.error)?.message}</Notice>
      )}
      <Block as="ul" aria-label="Carried in" m={0} p={0} plain>
        {data.map((a) => (
          <Line key={a.id} arrival={a} show={show} />
        ))}
      </Block>
    </Stack>
  );
}

const TONE = { checking: "water", done: "done", waiting: "pending", refused: "deep" } as const;
const WORD = {
  checking: "being verified",
  done: "carried in",
  waiting: "waits for media",
  refused: "refused",
} as const;

function Line({ arrival: a, show }: { arrival: Arrival; show: (id: number) => void }) {
  const now = Date.parse(useQuery(siteQuery).data?.now ?? new Date().toISOString());
  return (
    <Stack as="li" ruled py={1} gap={0.5} breaks>
      <Row gap={1} align="baseline" wrap>
        <strong>{a.name}</strong>
        <Tag tone={TONE[a.state]}>{WORD[a.state]}</Tag>
        <Text tone="quiet" size="small">
          by {a.asked_by}, {ago(a.asked_at, now)}
        </Text>
        {a.repository !== null && (
          <Press type="button" onClick={() => show(a.repository as number)}>
            Show it
          </Press>
        )}
      </Row>
      {a.state === "refused" ? (
        <Refused arrival={a} />
      ) : (
        a.message && (
          <Text size="body">
            {a.message}
            {a.new_bytes > 0 && (
              <>
                , <Mono>{size(a.new_bytes)}</Mono> stored
              </>
            )}
            .{a.expired_reason && ` Taken although its seal had expired: ${a.expired_reason}`}
          </Text>
        )
      )}
      {a.repository !== null && a.state === "done" && <Baseline id={a.repository} />}
    </Stack>
  );
}

/** A refusal, and the two that a person may answer: keys nobody has compared yet, and a seal past its end. */
function Refused({ arrival: a }: { arrival: Arrival }) {
  const queries = useQueryClient();
  const [reason, setReason] = useState("");
  const again = useMutation({
    mutationFn: (body: { trust: string; expired_reason: string }) =>
      take(api.POST("/api/v1/arrivals/{id}/again", { params: { path: { id: a.id } }, body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["repositories"] }),
  });
  return (
    <Stack gap={0.75}>
      <Notice title={`Refused: ${a.code}; nothing was stored`}>{a.message}</Notice>
      {a.code === "untrusted" && (
        <Stack framed="plain" p={1} gap={0.75}>
          <span>Its root key is</span>
          <Mono>{a.root_key.split(",").join(" ")}</Mono>
          <span>Trust it only if the same is shown where it was packed, told by telephone or on paper.</span>
          <Box>
            <Act
              takes="approve"
              variant="contained"
              onClick={() => again.mutate({ trust: a.root_key, expired_reason: "" })}
              loading={again.isPending}
            >
              I have compared them: trust these keys and carry it in
            </Act>
          </Box>
        </Stack>
      )}
      {a.code === "expired" && (
        <Row
          as="form"
          aria-label={`In spite of the expired seal of ${a.name}`}
          onSubmit={(e) => {
            e.preventDefault();
            again.mutate({ trust: "", expired_reason: reason });
          }}
          gap={1}
        >
          <TextField
            size="small"
            label="Why it is taken all the same; this is recorded"
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            sx={{ flex: 1 }}
          />
          <Act
            takes="approve"
            type="submit"
            variant="outlined"
            why={reason.trim() ? null : "Say why first."}
            loading={again.isPending}
          >
            Take it although expired
          </Act>
        </Row>
      )}
      {again.error && <Notice>{again.error.message}</Notice>}
    </Stack>
  );
}

/** The rules it was packed by can become this site's next revision; nobody's baseline changes by itself. */
function Baseline({ id }: { id: number }) {
  const { data } = useQuery(repositoryQuery(id));
  const takeIt = useMutation({
    mutationFn: () => take(api.POST("/api/v1/repositories/{id}/baseline", { params: { path: { id } } })),
  });
  if (!data?.has_baseline || !data.carried_from) return null;
  return (
    <Row size="body" gap={1} align="center" wrap>
      {takeIt.data ? (
        <Text role="status" tone="done">
          Its rules are revision {takeIt.data.number} of this site.
        </Text>
      ) : (
        <>
          <span>It brings the rules of its revision {data.revision} along.</span>
          <Act takes="approve" variant="outlined" onClick={() => takeIt.mutate()} loading={takeIt.isPending}>
            Make them the next revision here
          </Act>
        </>
      )}
      {takeIt.error && <Notice>{takeIt.error.message}</Notice>}
    </Row>
  );
}
