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
import { ink } from "../theme/theme";
import { upload } from "./upload";

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
    <Box sx={{ maxWidth: 820, display: "grid", gap: 1.5 }}>
      <Box sx={{ display: "flex", gap: 1.5, alignItems: "baseline" }}>
        <Title>Carry a repository in</Title>
        {close && (
          <Box sx={{ ml: "auto" }}>
            <Button variant="outlined" onClick={close}>
              Back
            </Button>
          </Box>
        )}
      </Box>
      <Box sx={{ color: "text.secondary" }}>
        An archive, a disc image or a folder that was written out elsewhere. It is verified whole before
        anything is stored; what is here already is not stored again. Of several media, carry in one after the
        other.
      </Box>
      <Box sx={{ display: "flex", gap: 1, alignItems: "center", flexWrap: "wrap" }}>
        <FileButton
          takes="keep"
          label="Send a file from here"
          name="Repository file"
          accept=".tar,.zst,.iso"
          pending={send.isPending}
          chosen={([file]) => file && send.mutate(file)}
        />
        <Box sx={{ color: "text.secondary" }}>or</Box>
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
      </Box>
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
      <Box component="ul" aria-label="Carried in" sx={{ m: 0, p: 0, listStyle: "none" }}>
        {data.map((a) => (
          <Line key={a.id} arrival={a} show={show} />
        ))}
      </Box>
    </Box>
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
    <Box
      component="li"
      sx={{
        borderTop: `1px solid ${ink("rule")}`,
        py: 1,
        display: "grid",
        gap: 0.5,
        overflowWrap: "anywhere",
      }}
    >
      <Box sx={{ display: "flex", gap: 1, alignItems: "baseline", flexWrap: "wrap" }}>
        <strong>{a.name}</strong>
        <Tag tone={TONE[a.state]}>{WORD[a.state]}</Tag>
        <Box sx={{ color: "text.secondary", fontSize: 13 }}>
          by {a.asked_by}, {ago(a.asked_at, now)}
        </Box>
        {a.repository !== null && (
          <Button
            variant="text"
            onClick={() => show(a.repository as number)}
            sx={{ p: 0, color: ink("water") }}
          >
            Show it
          </Button>
        )}
      </Box>
      {a.state === "refused" ? (
        <Refused arrival={a} />
      ) : (
        a.message && (
          <Box sx={{ fontSize: 13.5 }}>
            {a.message}
            {a.new_bytes > 0 && (
              <>
                , <Mono>{size(a.new_bytes)}</Mono> stored
              </>
            )}
            .{a.expired_reason && ` Taken although its seal had expired: ${a.expired_reason}`}
          </Box>
        )
      )}
      {a.repository !== null && a.state === "done" && <Baseline id={a.repository} />}
    </Box>
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
    <Box sx={{ display: "grid", gap: 0.75 }}>
      <Notice title={`Refused: ${a.code}; nothing was stored`}>{a.message}</Notice>
      {a.code === "untrusted" && (
        <Box sx={{ border: `1px solid ${ink("ink")}`, p: 1, fontSize: 13.5, display: "grid", gap: 0.75 }}>
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
        </Box>
      )}
      {a.code === "expired" && (
        <Box
          component="form"
          aria-label={`In spite of the expired seal of ${a.name}`}
          onSubmit={(e) => {
            e.preventDefault();
            again.mutate({ trust: "", expired_reason: reason });
          }}
          sx={{ display: "flex", gap: 1 }}
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
        </Box>
      )}
      {again.error && <Notice>{again.error.message}</Notice>}
    </Box>
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
    <Box sx={{ fontSize: 13.5, display: "flex", gap: 1, alignItems: "center", flexWrap: "wrap" }}>
      {takeIt.data ? (
        <Box role="status" sx={{ color: ink("done") }}>
          Its rules are revision {takeIt.data.number} of this site.
        </Box>
      ) : (
        <>
          <span>It brings the rules of its revision {data.revision} along.</span>
          <Act takes="approve" variant="outlined" onClick={() => takeIt.mutate()} loading={takeIt.isPending}>
            Make them the next revision here
          </Act>
        </>
      )}
      {takeIt.error && <Notice>{takeIt.error.message}</Notice>}
    </Box>
  );
}
