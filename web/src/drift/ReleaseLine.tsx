import Box from "@mui/material/Box";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import type { ReleaseData, ReleaseLineData } from "../api/client";
import { line as lineQuery } from "./queries";
import { count, duration, month, size } from "../shell/format";
import { Tag } from "../ui/Tag";
import { Hint } from "../ui/Hint";
import { pressable } from "../ui/pressable";
import { Mono, Title } from "../ui/text";
import { useWidth } from "../shell/width";
import { fonts, ink } from "../theme/theme";
import { layout, type Layout } from "./line-layout";
import { Block, Row, Stack, Text } from "../ui/layout";
import { TextLink } from "../ui/links";
import { Press } from "../ui/Press";

const HEIGHT = 158;
const Y = 76;

/** All releases of a product in order: who sits where, the way to the baseline, the stops, the barrier. */
export function ReleaseLine({ product, show }: { product: string; show: (version: string) => void }) {
  const { data } = useQuery(lineQuery(product));
  const { ref, width } = useWidth();
  const [picked, pick] = useState<string | null>(null);
  return (
    <Block as="section" aria-label="Release line" ref={ref} framed="plain" ground="sheet">
      {data && <Told data={data} />}
      {data && (
        <Drawn
          data={data}
          placed={layout(data, width, Y)}
          width={width}
          picked={picked}
          pick={(v) => pick(v === picked ? null : v)}
        />
      )}
      {data && <Notes release={data.releases.find((r) => r.version === picked)} show={show} />}
    </Block>
  );
}

function Told({ data }: { data: ReleaseLineData }) {
  const fitted = data.releases.reduce((n, r) => n + r.components, 0);
  const on = data.releases.filter((r) => r.components).length;
  const targets = data.releases.filter((r) => r.is_target).map((r) => r.version);
  return (
    <Row gap={1.5} align="baseline" px={2} pt={1.25} wrap>
      <Title level={2}>{data.name}</Title>
      <Text tone="quiet" size="small">
        {count(fitted, "component")} on {count(on, "release")}.{" "}
        {data.held ? "Held by a rule." : targets.length ? `The baseline is ${targets.join(" and ")}.` : ""}
        {data.elsewhere.length > 0 && ` Not in the list: ${data.elsewhere.join(", ")}.`} Pick a release to
        read about it.
      </Text>
    </Row>
  );
}

interface DrawnProps {
  data: ReleaseLineData;
  placed: Layout;
  width: number;
  picked: string | null;
  pick: (version: string) => void;
}

function Drawn({ data, placed, width, picked, pick }: DrawnProps) {
  return (
    <svg
      width={width}
      height={HEIGHT}
      viewBox={`0 0 ${width} ${HEIGHT}`}
      style={{ display: "block", maxWidth: "100%" }}
      role="group"
      aria-label="Releases in order"
    >
      <line x1={30} x2={width - 30} y1={Y} y2={Y} stroke={ink("ink")} strokeWidth={1.4} />
      {placed.barrier !== null && <Barrier x={placed.barrier} />}
      {placed.arcs.map((arc) => (
        <g key={arc.path} aria-hidden>
          <path d={arc.path} fill="none" stroke={ink("water")} strokeWidth={1.8} />
          <text
            x={arc.x}
            y={arc.y}
            textAnchor="middle"
            fontSize={11.5}
            fill={ink("water")}
            stroke={ink("sheet")}
            strokeWidth={4}
            paintOrder="stroke"
            fontFamily={fonts.text}
          >
            {arc.label}
          </text>
        </g>
      ))}
      {data.releases.map((release) => (
        <Stop
          key={release.version}
          release={release}
          placed={placed}
          chosen={picked === release.version}
          pick={() => pick(release.version)}
        />
      ))}
    </svg>
  );
}

function Barrier({ x }: { x: number }) {
  return (
    <g>
      <path d={`M${x + 5},${Y - 15} h-5 v30 h5`} fill="none" stroke={ink("ink2")} strokeWidth={1.3} />
      <text x={x - 6} y={Y + 34} textAnchor="end" fontSize={11.5} fill={ink("ink2")} fontFamily={fonts.text}>
        no way back from the baseline
      </text>
    </g>
  );
}

function Stop({
  release,
  placed,
  chosen,
  pick,
}: {
  release: ReleaseData;
  placed: Layout;
  chosen: boolean;
  pick: () => void;
}) {
  const x = placed.x(release.version);
  const security = release.importance === "security";
  const colour = release.is_target
    ? ink("water")
    : placed.exposed.has(release.version)
      ? ink("deep")
      : ink("routine");
  const says = [
    release.version,
    release.is_target && "the baseline",
    release.is_stop && "must-stop",
    release.is_beyond && "newer, not chosen",
    count(release.components, "component"),
    release.waiting > 0 && `${release.waiting} waiting for a reset`,
    release.importance,
  ]
    .filter(Boolean)
    .join(", ");
  return (
    <g opacity={release.is_beyond ? 0.62 : 1}>
      <rect
        x={x - 44}
        y={Y - 14}
        width={88}
        height={HEIGHT - Y + 10}
        fill={chosen ? ink("water2") : "transparent"}
        opacity={0.6}
      />
      {release.is_stop && (
        <circle cx={x} cy={Y} r={9} fill={ink("sheet")} stroke={ink("ink")} strokeWidth={1.6} />
      )}
      <circle
        cx={x}
        cy={Y}
        r={release.is_target ? 6.5 : 4.5}
        fill={release.is_target ? ink("water") : release.is_stop ? ink("ink") : ink("sheet")}
        stroke={release.is_target ? ink("water") : ink("ink")}
        strokeWidth={1.6}
      />
      {placed.dots.get(release.version)?.map((dot, i) => (
        <rect
          key={i}
          x={dot.x - 3}
          y={dot.y - 3}
          width={6}
          height={6}
          {...(i < release.components ? { fill: colour } : { fill: ink("pending2"), stroke: ink("pending") })}
        />
      ))}
      <text
        x={x}
        y={Y + 56}
        textAnchor="middle"
        fontSize={13}
        fontFamily={fonts.mono}
        fontWeight={release.is_target ? 700 : 400}
        fill={ink("ink")}
      >
        {release.version}
      </text>
      <text
        x={x}
        y={Y + 72}
        textAnchor="middle"
        fontSize={11.5}
        fill={security ? ink("deep") : ink("ink2")}
        fontFamily={fonts.text}
      >
        {release.is_target
          ? "baseline, "
          : release.is_stop
            ? "must-stop, "
            : release.is_beyond
              ? "not chosen, "
              : ""}
        {release.released ? month(release.released) : "no date"}
        {security ? " !" : ""}
      </text>
      <Hint told={says}>
        <rect
          {...pressable(pick)}
          x={x - 44}
          y={Y - 14}
          width={88}
          height={HEIGHT - Y + 10}
          fill="transparent"
          aria-label={says}
          aria-pressed={chosen}
        />
      </Hint>
    </g>
  );
}

/** What a release says of itself, which issues list it, and who runs it. */
function Notes({ release, show }: { release: ReleaseData | undefined; show: (version: string) => void }) {
  if (!release) return null;
  const facts = [
    release.size && size(release.size),
    release.activation &&
      `active ${release.activation === "at once" ? "at once" : `by ${release.activation}`}`,
    release.write_seconds && `about ${duration(release.write_seconds)} to write`,
    release.alone && "has to be written alone",
    release.direct_from && `can be written from ${release.direct_from} on`,
    release.needs.length > 0 && `needs ${release.needs.join(", ")}`,
    release.floor_after && `no way back below ${release.floor_after} afterwards`,
  ].filter(Boolean);
  const unsigned = release.issues.length > 0 && release.issues.every((i) => !i.signed_by);
  return (
    <Stack px={2} pb={1.5} pt={1} ruled size="body" gap={0.5}>
      <Row gap={1} align="baseline" wrap>
        <strong>
          <Mono>{release.version}</Mono>
        </strong>
        {release.importance && (
          <Tag tone={release.importance === "security" ? "deep" : "rule"}>{release.importance}</Tag>
        )}
        {unsigned && <Tag tone="pending">unsigned</Tag>}
        <Text tone="quiet">{facts.join("; ")}</Text>
      </Row>
      <Box>{release.notes || "No notes came with this release."}</Box>
      {release.fixes.map((f) => (
        <Box key={f.id}>
          <TextLink to={`/drift?side=advisories&advisory=${f.id}`}>
            <Mono>{f.id}</Mono>
          </TextLink>
          {f.score !== null && `, score ${f.score}`}
          {f.title && `: ${f.title}`}
        </Box>
      ))}
      {release.conflict && <Text tone="deep">{release.conflict}.</Text>}
      <Text tone="quiet">Listed in {release.issues.map((i) => i.name).join(", ")}.</Text>
      {release.server_count > 0 && (
        <Box>
          On it: {release.servers.slice(0, 12).join(", ")}
          {release.server_count > 12 && ` and ${release.server_count - 12} more`}.{" "}
          <Press type="button" onClick={() => show(release.version)}>
            Show {count(release.server_count, "server")}
          </Press>
        </Box>
      )}
    </Stack>
  );
}
