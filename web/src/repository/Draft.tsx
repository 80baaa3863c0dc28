import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, type Loss, type Packing, type Repository, take, type Trim } from "../api/client";
import { revisions as revisionsQuery } from "../api/queries";
import { packing } from "./queries";
import { count, fewNames, size } from "../shell/format";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Mono, Title } from "../ui/text";
import { useAddress, useSelection } from "../shell/selection";
import { PackingList } from "./PackingList";
import { groupOffers, readCapacity, readTrims, spellTrims, toggled } from "./trims";
import { Scale } from "./Scale";
import { Block, Row, Stack, Text } from "../ui/layout";
import { Struck } from "../ui/Pill";
import { Press } from "../ui/Press";

/** What would be packed: trimmed until it fits, with what each trim saves and what it costs the servers. */
export function Draft({
  made,
  close,
  hasOthers,
}: {
  made: (r: Repository) => void;
  close: () => void;
  hasOthers: boolean;
}) {
  const { names } = useSelection();
  const [address, change] = useAddress();
  const [name, setName] = useState("");
  const trims = readTrims(address.get("trim"));
  const capacity = readCapacity(address.get("medium"));
  const revision = Number(address.get("revision")) || null;
  const boots = address.get("boots") === "yes";
  const wanted = { servers: names, trims, capacity, revision, boots };
  const { data, error } = useQuery(packing(wanted));
  const pack = useMutation({
    mutationFn: () => take(api.POST("/api/v1/repositories", { body: { ...wanted, name } })),
    onSuccess: made,
  });
  const press = (...pressed: Trim[]) => change({ trim: spellTrims(pressed.reduce(toggled, trims)) || null });
  if (error) return <Notice>{error.message}</Notice>;
  if (!data) return null;
  const packed = data.lines.filter((l) => l.state !== "left out");
  const nothing =
    data.lines.length === 0
      ? "These servers need nothing: all are level, held or without a route."
      : packed.length === 0
        ? "Everything is left out."
        : data.media.too_large
          ? "It does not fit: choose a larger medium or trim it."
          : null;
  return (
    <>
      <Row gap={1.5} align="baseline" mb={0.5} wrap>
        <Title>To be packed</Title>
        <Text tone="quiet">
          {names.length ? `for ${count(names.length, "selected server")}` : "for all servers"}:{" "}
          {count(data.servers.length, "server")} need something
        </Text>
        <Row ml="auto" gap={1}>
          <Act
            takes="plan"
            variant="contained"
            why={nothing}
            onClick={() => pack.mutate()}
            loading={pack.isPending}
          >
            Pack and seal
          </Act>
          {hasOthers && (
            <Button variant="outlined" onClick={close}>
              Not now
            </Button>
          )}
        </Row>
      </Row>
      <Wishes
        data={data}
        name={name}
        setName={setName}
        capacity={capacity}
        revision={revision}
        boots={boots}
        change={change}
      />
      {pack.error && <Notice>{pack.error.message}</Notice>}
      {data.media.too_large && (
        <Block mb={1}>
          <Notice title="Too large for this medium">{data.media.too_large}.</Notice>
        </Block>
      )}
      <Sums data={data} />
      <Scale lines={data.lines} capacity={capacity} filled={data.media.filled} press={press} />
      <Trims data={data} press={press} />
      <Losses losses={data.losses} />
      {data.lines.length > 0 ? (
        <PackingList
          lines={data.lines}
          media={data.media.filled.length}
          places={data.media.places}
          press={press}
        />
      ) : (
        <Text tone="quiet">
          Nothing is needed: these servers are level, held, without a route, or were not read yet.
        </Text>
      )}
    </>
  );
}

interface WishesProps {
  data: Packing;
  name: string;
  setName: (name: string) => void;
  capacity: number | null;
  revision: number | null;
  boots: boolean;
  change: (changes: Record<string, string | null>) => void;
}

function Wishes({ data, name, setName, capacity, revision, boots, change }: WishesProps) {
  const { data: revisions = [] } = useQuery(revisionsQuery);
  const known = data.known_media.some((m) => m.bytes === capacity);
  const [own, setOwn] = useState(capacity !== null && !known);
  const field = { size: "small" as const, sx: { minWidth: 150 } };
  return (
    <Row gap={1} wrap my={1.25}>
      <TextField
        {...field}
        label="Name"
        value={name}
        placeholder={`${data.servers.length} servers`}
        onChange={(e) => setName(e.target.value)}
        slotProps={{ htmlInput: { maxLength: 200 } }}
        sx={{ width: 220 }}
      />
      <TextField
        {...field}
        select
        label="Has to fit on"
        value={own ? "own" : capacity === null ? "" : String(capacity)}
        slotProps={{ select: { displayEmpty: true }, inputLabel: { shrink: true } }}
        onChange={(e) => {
          setOwn(e.target.value === "own");
          change({ medium: e.target.value === "own" ? String(capacity ?? 2e9) : e.target.value || null });
        }}
      >
        <MenuItem value="">anything, in one piece</MenuItem>
        {data.known_media.map((m) => (
          <MenuItem key={m.name} value={String(m.bytes)}>
            {m.name}, {size(m.bytes)}
          </MenuItem>
        ))}
        <MenuItem value="own">a size of your own</MenuItem>
      </TextField>
      {own && (
        <TextField
          {...field}
          label="Megabytes of one medium"
          type="number"
          defaultValue={Math.round((capacity ?? 2e9) / 1e6)}
          onChange={(e) =>
            change({ medium: Number(e.target.value) >= 1 ? String(Number(e.target.value) * 1e6) : null })
          }
        />
      )}
      <TextField
        {...field}
        select
        label="Baseline"
        value={String(revision ?? data.revision)}
        onChange={(e) =>
          change({ revision: e.target.value === String(revisions[0]?.number) ? null : e.target.value })
        }
      >
        {(revisions.length ? revisions.map((r) => r.number) : [data.revision]).map((n) => (
          <MenuItem key={n} value={String(n)}>
            revision {n}
          </MenuItem>
        ))}
      </TextField>
      {data.boot ? (
        <FormControlLabel
          label={`Its discs boot by themselves, +${size(data.boot.bytes)}`}
          control={
            <Checkbox
              size="small"
              checked={boots}
              onChange={(e) => change({ boots: e.target.checked ? "yes" : null })}
            />
          }
        />
      ) : (
        <Text tone="quiet" size="fine" style={{ alignSelf: "center" }}>
          For discs that boot by themselves, run <Mono>make boot-base</Mono> on this machine once.
        </Text>
      )}
    </Row>
  );
}

function Sums({ data }: { data: Packing }) {
  const out = data.lines.filter((l) => l.state === "left out").reduce((n, l) => n + l.size, 0);
  const packed = data.lines.filter((l) => l.state !== "left out").length;
  return (
    <Row role="status" aria-label="Size" gap={1.5} wrap tone="quiet" mb={0.75}>
      <span>
        {count(packed, "payload")}, <Mono>{size(data.bytes)}</Mono>
        {data.stored > 0 && (
          <>
            , of which <Mono>{size(data.stored)}</Mono> {data.stored === data.bytes ? "(all)" : ""} need not
            be fetched again
          </>
        )}
      </span>
      {data.media.filled.length > 1 && <strong>spread over {data.media.filled.length} media</strong>}
      {out > 0 && (
        <Block as="span" ml="auto">
          <Mono>{size(out)}</Mono> left out
        </Block>
      )}
    </Row>
  );
}

/** Trims that are neither on the bar nor in the list, each with what it saves. */
function Trims({ data, press }: { data: Packing; press: (trim: Trim) => void }) {
  const [more, setMore] = useState(false);
  const every = groupOffers(data.offers);
  const groups = every.filter(([word, offers]) => more || word !== "Products" || offers.some((o) => o.made));
  if (!every.length) return null;
  return (
    <Stack
      style={{ gridTemplateColumns: "max-content minmax(0,1fr)", columnGap: 12, rowGap: 4 }}
      mb={1.5}
      size="small"
    >
      {groups.map(([word, offers]) => [
        <Text key={word} tone="quiet" pt={0.25}>
          {word}
        </Text>,
        <Row
          key={`${word} list`}
          role="group"
          aria-label={`Leave out by ${word.toLowerCase()}`}
          wrap
          gap={0.5}
        >
          {offers.map((o) => (
            <Struck
              key={o.value}
              aria-pressed={o.made}
              onClick={() => press({ by: o.by as Trim["by"], value: o.value })}
            >
              {o.label}
              <Text as="span" ml={0.75} tone="quiet">
                <Mono>−{size(o.saves)}</Mono>
              </Text>
            </Struck>
          ))}
        </Row>,
      ])}
      {groups.length < every.length && (
        <>
          <span />
          <Box>
            <Press type="button" onClick={() => setMore(true)}>
              by product as well
            </Press>
          </Box>
        </>
      )}
    </Stack>
  );
}

const LOSS: Record<Loss["what"], string> = {
  stranded: "Stranded by what is left out",
  stays: "Stays as it is",
  "no way back": "No way back",
};

function Losses({ losses }: { losses: Loss[] }) {
  if (!losses.length) return null;
  const kinds = (["stranded", "stays", "no way back"] as const).filter((what) =>
    losses.some((l) => l.what === what),
  );
  return (
    <Block
      role="status"
      aria-label="What the servers lose"
      side="pending"
      ground="pending"
      px={1.5}
      py={0.75}
      mb={1.5}
      size="small"
      style={{ maxHeight: 190, overflow: "auto" }}
      tabIndex={0}
    >
      {kinds.map((what) => (
        <Block key={what} mb={0.5}>
          <strong>
            {LOSS[what]}:{" "}
            {count(new Set(losses.filter((l) => l.what === what).flatMap((l) => l.servers)).size, "server")}
          </strong>
          {losses
            .filter((l) => l.what === what)
            .map((l) => (
              <Box key={`${l.product} ${l.version} ${l.why}`}>
                {l.name} <Mono>{l.version}</Mono>: {l.why} ({fewNames(l.servers)})
              </Box>
            ))}
        </Block>
      ))}
    </Block>
  );
}
