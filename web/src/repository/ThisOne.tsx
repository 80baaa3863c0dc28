import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Repository, type RepositoryHead, sendFile, take, type Written } from "../api/client";
import { site as siteQuery } from "../api/queries";
import { ALOUD } from "../api/refused";
import { fetches as fetchesQuery, reaching, signatures as signaturesQuery } from "./queries";
import { FileButton } from "../shell/FileButton";
import { ago, count, size, someNames } from "../shell/format";
import { Act } from "../ui/Act";
import { ActionBar } from "../ui/ActionBar";
import { Notice } from "../ui/Notice";
import { Tag } from "../ui/Tag";
import { Mono, spoken } from "../ui/text";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Card } from "../ui/Pill";
import { Section } from "../ui/Section";

const date = (text: string): string =>
  new Date(text).toLocaleDateString("en-GB", { day: "numeric", month: "long", year: "numeric" });

/** What can be done with one repository: check its seal, write it out, see who reaches it. */
export function ThisOne({ repository: r, editions }: { repository: Repository; editions: RepositoryHead[] }) {
  return (
    <Stack gap={2.25}>
      <Seal repository={r} />
      {r.state === "signing" && <Signing repository={r} />}
      {(r.state === "sealed" || r.state === "waiting") && <WriteOut repository={r} editions={editions} />}
      {r.servers.length > 0 && <Reach repository={r} />}
      <Fetched repository={r} />
    </Stack>
  );
}

function Seal({ repository: r }: { repository: Repository }) {
  const check = useMutation({
    mutationFn: () => take(api.POST("/api/v1/repositories/{id}/check", { params: { path: { id: r.id } } })),
  });
  if (!r.expires) {
    return (
      <Section title="Seal">
        <Text tone="quiet">
          {r.state === "packing"
            ? "Sealed once every payload is fetched and checked."
            : r.state === "signing"
              ? "Everything is packed; signatures are still wanted."
              : "Not sealed."}
        </Text>
      </Section>
    );
  }
  return (
    <Section title="Seal" gap={0.75}>
      <Text tone={r.ends === "over" ? "deep" : "quiet"}>
        {r.ends === "over"
          ? `Ended on ${date(r.expires)}: it is refused wherever it arrives. Seal it anew.`
          : `Good until ${date(r.expires)}${r.ends === "soon" ? ", which is soon" : ""}. A copy that was altered, cut short, mixed or swapped for an older one is refused where it arrives.`}
      </Text>
      <Text size="fine" breaks>
        Root {r.root_version}, to compare at the far end: <Mono>{r.root_key.split(",").join(" ")}</Mono>
      </Text>
      <Box>
        <Act takes="plan" variant="outlined" onClick={() => check.mutate()} loading={check.isPending}>
          Check it end to end
        </Act>
      </Box>
      {check.error && <Notice title="Refused">{check.error.message}</Notice>}
      {r.checked &&
        (r.check_failed ? (
          <Notice title="Refused">{r.checked}</Notice>
        ) : (
          <Text role="status" tone="done">
            {r.checked}.
          </Text>
        ))}
    </Section>
  );
}

/** Signing by file exchange: the file goes to where the key is, and comes back signed. */
function Signing({ repository: r }: { repository: Repository }) {
  const { data } = useQuery(signaturesQuery(r.id));
  const bring = useMutation({
    mutationFn: (file: File) => sendFile(`/api/v1/repositories/${r.id}/signatures`, file),
  });
  return (
    <Section title="Signatures" gap={0.75}>
      {data && (
        <Text tone="quiet">
          {data.have} of {data.threshold} are there. Could still sign:{" "}
          <Mono>{data.open_to.map((k) => k.slice(0, 12)).join(", ")}</Mono>.
        </Text>
      )}
      <Text tone="quiet" size="small">
        Take the file to where the key is, sign it there with <Mono>ordnung seal sign</Mono>, and bring it
        back.
      </Text>
      <ActionBar>
        <Button variant="outlined" href={`/api/v1/repositories/${r.id}/targets`}>
          Get the file
        </Button>
        <FileButton
          takes="approve"
          label="Bring it signed"
          name="Signed file"
          accept=".json"
          pending={bring.isPending}
          chosen={([file]) => file && bring.mutate(file)}
        />
      </ActionBar>
      {bring.error && <Notice title="Not taken">{bring.error.message}</Notice>}
    </Section>
  );
}

type Shape = Written["shape"];
const SHAPES: [Shape, string, string][] = [
  ["folder", "Folder", "a site can mirror it as it is"],
  ["tar", "Archive", "one file, gone on with after a break"],
  ["tar.zst", "Archive, compressed", "smaller where payloads allow"],
  ["iso", "Disc image", "to burn, or to mount as virtual media"],
];

const BOOTS = "boots by itself, as a disc and as a stick";

function WriteOut({ repository: r, editions }: { repository: Repository; editions: RepositoryHead[] }) {
  const [shape, setShape] = useState<Shape>("tar");
  const [folder, setFolder] = useState("");
  const [since, setSince] = useState("");
  const older = editions.filter((e) => e.series === r.series && e.edition < r.edition && e.expires);
  const write = useMutation({
    mutationFn: () =>
      take(
        api.POST("/api/v1/repositories/{id}/written", {
          params: { path: { id: r.id } },
          body: { shape, folder, since: since ? Number(since) : null },
        }),
      ),
  });
  const why = r.state === "waiting" ? "Payloads are still missing; carry in the other media first." : null;
  return (
    <Section title="Write it out" gap={1}>
      <Box
        role="radiogroup"
        aria-label="As what"
        sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 0.75 }}
      >
        {SHAPES.map(([key, word, hint]) => (
          <Card key={key} on={shape === key}>
            <input
              type="radio"
              name="shape"
              style={spoken}
              checked={shape === key}
              onChange={() => setShape(key)}
            />
            <strong>{word}</strong>
            <Text tone="quiet" size="fine">
              {key === "iso" && r.boots ? BOOTS : hint}
            </Text>
          </Card>
        ))}
      </Box>
      <TextField
        size="small"
        label="Folder on this machine, else Ordnung keeps it"
        value={folder}
        onChange={(e) => setFolder(e.target.value)}
      />
      {older.length > 0 && (
        <TextField
          size="small"
          select
          label="What"
          value={since}
          onChange={(e) => setSince(e.target.value)}
          slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
        >
          <MenuItem value="">everything</MenuItem>
          {older.map((e) => (
            <MenuItem key={e.id} value={String(e.edition)}>
              only what edition {e.edition} lacks
            </MenuItem>
          ))}
        </TextField>
      )}
      <Box>
        <Act
          takes="plan"
          variant="contained"
          why={why}
          onClick={() => write.mutate()}
          loading={write.isPending}
        >
          Write it out{r.media > 1 && ` on ${r.media} media`}
        </Act>
      </Box>
      {write.error && <Notice title="Not written">{write.error.message}</Notice>}
      <Block as="ul" aria-label="Written out" m={0} p={0} plain>
        {r.written.map((w) => (
          <WrittenLine key={w.id} repository={r} written={w} />
        ))}
      </Block>
    </Section>
  );
}

function WrittenLine({ repository: r, written: w }: { repository: Repository; written: Written }) {
  const name = w.place.split("/").at(-1) ?? w.place;
  return (
    <Text as="li" ruled py={0.75} size="small" breaks>
      <strong>{name}</strong>{" "}
      {w.state === "writing" ? (
        <Tag tone="water">being written</Tag>
      ) : w.state === "failed" ? (
        <Tag tone="deep">failed</Tag>
      ) : (
        <Mono>{size(w.size)}</Mono>
      )}
      {w.state === "failed" && <Notice>{w.message}</Notice>}
      {w.state === "done" && (
        <Text tone="quiet" size="fine">
          {w.sha256 ? (
            <>
              SHA-256 <Mono>{w.sha256}</Mono>
            </>
          ) : (
            `${count(w.files, "file")}, covered by its seal`
          )}
          <br />
          in {w.place.slice(0, -name.length - 1)}
          {w.sha256 && (
            <>
              <br />
              <a href={`/api/v1/repositories/${r.id}/written/${w.id}/file`} download={name}>
                Download {name}
              </a>
            </>
          )}
        </Text>
      )}
    </Text>
  );
}

function Reach({ repository: r }: { repository: Repository }) {
  const { data = [] } = useQuery(reaching(r.id));
  const known = data.filter((g) => g.way !== "unknown").flatMap((g) => g.servers);
  const ask = useMutation({
    meta: ALOUD,
    mutationFn: () => take(api.POST("/api/v1/reach", { body: { servers: known, failed: false } })),
  });
  return (
    <Section title="Can the controllers reach it?" gap={0.5}>
      <Text as="ul" aria-label="Reach" m={0} p={0} plain size="body">
        {data.map((g) => (
          <Block as="li" key={g.way} py={0.25}>
            <Row gap={1} tone={g.good ? "plain" : g.way === "unknown" ? "quiet" : "deep"}>
              <span>{g.words}</span>
              <Block as="span" ml="auto">
                <Mono>{g.servers.length}</Mono>
              </Block>
            </Row>
            {!g.good && (
              <Text tone="quiet" size="fine">
                {someNames(g.servers)}
              </Text>
            )}
          </Block>
        ))}
      </Text>
      <Box>
        <Act
          takes="plan"
          variant="outlined"
          why={known.length ? null : "None of its servers was read here."}
          onClick={() => ask.mutate()}
          loading={ask.isPending}
        >
          Have them try
        </Act>
      </Box>
    </Section>
  );
}

const SHOWN = 6;

function Fetched({ repository: r }: { repository: Repository }) {
  const { data = [] } = useQuery(fetchesQuery(r.id));
  const now = Date.parse(useQuery(siteQuery).data?.now ?? new Date().toISOString());
  if (!data.length) return null;
  return (
    <Section title="Fetched by controllers" gap={0.5}>
      <Text as="ul" aria-label="Fetched" m={0} p={0} plain size="small">
        {data.slice(0, SHOWN).map((f) => (
          <Block as="li" key={`${f.at} ${f.server} ${f.name}`} ruled py={0.25}>
            <strong>{f.server}</strong> {f.name} <Mono>{f.version}</Mono>
            <Text tone="quiet" size="fine">
              {size(f.bytes)} over {f.protocol} to {f.address}
              {!f.whole && ", broken off"}, {ago(f.at, now)}, run {f.run}
            </Text>
          </Block>
        ))}
      </Text>
      {data.length > SHOWN && (
        <Text tone="quiet" size="note">
          and {data.length - SHOWN} before that
        </Text>
      )}
    </Section>
  );
}
