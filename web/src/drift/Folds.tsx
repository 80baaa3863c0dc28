import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { Fragment } from "react";

import type { Cell, Drift, Fold } from "../api/client";
import { count, foldNames } from "../shell/format";
import { Table } from "../ui/Table";
import { Mono } from "../ui/text";
import { Glyph } from "../waterline/Glyph";
import { KINDS, tellCell } from "../waterline/words";
import { Block, Row, Text } from "../ui/layout";
import { Chosen, Press } from "../ui/Press";

interface Props {
  data: Drift;
  product: string | null;
  choose: (product: string) => void;
  selected: string[];
  select: (names: string[]) => void;
  more: () => void;
}

/** Equal servers folded into one row, per model, the odd ones first. */
export function Folds({ data, product, choose, selected, select, more }: Props) {
  const kinds = [...new Map(data.folds.flatMap((f) => f.cells.map((c) => [c.kind, c.letter]))).entries()];
  const chosen = new Set(selected);
  return (
    <>
      <Table aria-label="Servers folded by state" framed dense>
        <thead>
          <tr>
            <th scope="col">Server</th>
            {kinds.map(([kind, letter]) => (
              <th scope="col" key={kind}>
                {letter} {kind === "controller" ? "Controller" : KINDS[kind]}
              </th>
            ))}
            <th scope="col">Resets</th>
          </tr>
        </thead>
        <tbody>
          {data.models.map(({ model, servers, states }) => {
            const mine = data.folds.filter((f) => f.model === model);
            if (!mine.length) return null;
            return (
              <Fragment key={model}>
                <tr className="head">
                  <th scope="rowgroup" colSpan={kinds.length + 2}>
                    <Text as="span" tone="plain">
                      {model || "Not read"}
                    </Text>{" "}
                    {count(servers, "server")} in {count(states, "state")}
                  </th>
                </tr>
                {mine.map((f) => (
                  <FoldRow
                    key={`${f.signature} ${f.names[0]}`}
                    fold={f}
                    kinds={kinds.map(([kind]) => kind)}
                    product={product}
                    choose={choose}
                    chosen={f.names.every((x) => chosen.has(x))}
                    select={select}
                  />
                ))}
              </Fragment>
            );
          })}
        </tbody>
      </Table>
      {data.folds.length < data.states && (
        <Button variant="outlined" sx={{ mt: 1 }} onClick={more}>
          Show more of {data.states} states
        </Button>
      )}
    </>
  );
}

interface RowProps {
  fold: Fold;
  kinds: string[];
  product: string | null;
  choose: (product: string) => void;
  chosen: boolean;
  select: (names: string[]) => void;
}

function FoldRow({ fold: f, kinds, product, choose, chosen, select }: RowProps) {
  return (
    <tr className={chosen ? "picked" : undefined}>
      <td>
        <Press
          type="button"
          title={f.names.slice(0, 40).join(", ")}
          // Several names go on below each other: the table has its width for the versions.
          style={{ whiteSpace: "normal" }}
          onClick={() => select(f.names)}
          tone="plain"
          strong
        >
          {foldNames(f.names)}
        </Press>{" "}
        {f.names.length > 1 && <Mono dim>{f.names.length}</Mono>}
      </td>
      {f.read ? (
        kinds.map((kind) => (
          <td key={kind}>
            <VersionCell cell={f.cells.find((c) => c.kind === kind)} product={product} choose={choose} />
          </td>
        ))
      ) : (
        <td colSpan={kinds.length} className="quiet">
          {f.unread || "not read yet"}
        </td>
      )}
      <td style={{ whiteSpace: "nowrap" }} title={f.resets}>
        {f.resets.replace("controller restart", "restart") || "–"}
        {f.stranded.length > 0 && (
          <Text title={f.stranded.join("; ")} size="fine" tone="deep">
            {count(f.stranded.length, "component")} without a way
          </Text>
        )}
      </td>
    </tr>
  );
}

/** A glyph with its version; it opens the release line of its product. */
function VersionCell({
  cell,
  product,
  choose,
}: {
  cell: Cell | undefined;
  product: string | null;
  choose: (product: string) => void;
}) {
  if (!cell || !cell.count) return <Text tone="quiet">–</Text>;
  const inner = (
    <Row gap={1} align="flex-start">
      <Row>
        <Glyph verdict={cell.verdict} behind={cell.behind} />
      </Row>
      <Block minWidth={0}>
        <Mono>{cell.versions}</Mono>
        {!cell.product && (
          <Text as="span" size="fine" tone="quiet">
            {" "}
            in no catalog
          </Text>
        )}{" "}
        {cell.waiting && (
          <Text size="fine" tone="pending">
            {cell.waiting} waits
          </Text>
        )}{" "}
        {cell.via.length > 0 && (
          <Text size="fine" tone="quiet">
            by way of {cell.via.join(", ")}
          </Text>
        )}
      </Block>
    </Row>
  );
  if (!cell.product) return <Box title={tellCell(cell)}>{inner}</Box>;
  const mine = cell.product;
  return (
    <Chosen aria-label={tellCell(cell)} aria-pressed={product === mine} onClick={() => choose(mine)}>
      {inner}
    </Chosen>
  );
}
