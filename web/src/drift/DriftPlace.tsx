import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useMemo, useState } from "react";
import { Link } from "react-router";

import type { Drift, Fold } from "../api/client";
import { drift as driftQuery } from "./queries";
import { agree, count } from "../shell/format";
import { EmptyPlace } from "../ui/EmptyPlace";
import { Notice } from "../ui/Notice";
import { Split } from "../ui/Split";
import { Title } from "../ui/text";
import { useAddress, useParam, useSelection } from "../shell/selection";
import { ink } from "../theme/theme";
import { Advisories } from "./Advisories";
import { Filters } from "./Filters";
import { asQuery, readFilters } from "./filtering";
import { Folds } from "./Folds";
import { ReleaseLine } from "./ReleaseLine";
import { Review } from "./Review";
import { Block, Row, Text } from "../ui/layout";
import { FileLink } from "../ui/links";

const PAGE = 60;

/** Drift is found as the odd one out: equal servers folded, the odd ones first, and below the line of a product. */
export function DriftPlace() {
  const [params, change] = useAddress();
  const filters = useMemo(() => readFilters(params), [params]);
  const [limit, setLimit] = useState(PAGE);
  const { data, error } = useQuery(driftQuery(filters, limit));
  const { names, select } = useSelection();
  const [product, setProduct] = useParam("product");
  const [side, setSide] = useParam("side");
  if (error)
    return (
      <Block p={3}>
        <Notice>{error.message}</Notice>
      </Block>
    );
  if (!data) return null;
  const lead = product ?? filters.product ?? worstProduct(data.folds);
  const isRead = data.facets.verdicts.length > 0;
  if (!isRead) {
    return (
      <EmptyPlace
        drawing="line"
        title="Nothing is read yet"
        act={
          <Button component={Link} to="/floor" variant="contained">
            Go to the Floor
          </Button>
        }
      >
        Drift shows how far each server is from the baseline. Read the servers first.
      </EmptyPlace>
    );
  }
  const panels: Record<string, ReactNode> = {
    review: <Review filters={filters} />,
    advisories: (
      <Advisories narrow={(id) => change({ advisory: id, servers: null })} shown={filters.advisory} />
    ),
  };
  const panel = side ? panels[side] : undefined;
  return (
    <Split
      label="Drift"
      panel={
        panel && (
          <Box>
            <Button
              variant="text"
              onClick={() => setSide(null)}
              sx={{ float: "right", px: 0.5 }}
              aria-label="Close the panel"
            >
              ×
            </Button>
            {panel}
          </Box>
        )
      }
      width={360}
      about={side === "review" ? "Review" : side === "advisories" ? "Advisories" : null}
    >
      <Head data={data} side={side} setSide={setSide} filters={filters} />
      <Filters filters={filters} facets={data.facets} />
      {data.folds.length === 0 ? (
        <Text tone="quiet" py={3}>
          No server meets all of that. Take something away above.
        </Text>
      ) : (
        <Folds
          data={data}
          product={lead}
          choose={setProduct}
          selected={names}
          select={select}
          more={() => setLimit(limit + PAGE)}
        />
      )}
      {lead && (
        <Box
          sx={{
            position: { xs: "static", md: "sticky" },
            bottom: -12,
            mt: 2,
            zIndex: 2,
            boxShadow: `0 -8px 0 ${ink("paper")}`,
            "@media print": { position: "static", boxShadow: "none" },
          }}
        >
          <ReleaseLine key={lead} product={lead} show={(on) => change({ item: lead, on, product: lead })} />
        </Box>
      )}
    </Split>
  );
}

/** The product to show when none is chosen: the one with the most exposed components. */
function worstProduct(folds: Fold[]): string | null {
  const cells = folds.flatMap((f) => f.cells).filter((c) => c.product && c.verdict !== "level");
  cells.sort(
    (a, b) => Number(b.verdict === "exposed") - Number(a.verdict === "exposed") || b.behind - a.behind,
  );
  return cells[0]?.product ?? folds[0]?.cells[0]?.product ?? null;
}

interface HeadProps {
  data: Drift;
  side: string | null;
  setSide: (side: string | null) => void;
  filters: Record<string, string>;
}

function Head({ data, side, setSide, filters }: HeadProps) {
  const t = data.totals;
  const toggle = (name: string) => () => setSide(side === name ? null : name);
  return (
    <Row wrap gap={1.5} align="baseline" mb={0.75}>
      <Title>
        {t.off} of {t.components} components {agree(t.off, "is", "are")} off the baseline
      </Title>
      <Text tone="quiet">
        {t.exposed === 0
          ? "none misses a security fix"
          : `${t.exposed} ${agree(t.exposed, "misses", "miss")} a security fix, on ${count(t.exposed_servers, "server")}`}
        {t.servers < t.of ? `; ${t.servers} of ${t.of} servers shown` : ""}
      </Text>
      <Row ml="auto" wrap gap={1} align="center" className="no-print">
        <Files filters={filters} />
        <Button variant="outlined" aria-pressed={side === "advisories"} onClick={toggle("advisories")}>
          Advisories
        </Button>
        <Button variant="contained" aria-pressed={side === "review"} onClick={toggle("review")}>
          Review and send on
        </Button>
      </Row>
    </Row>
  );
}

/** The same as files, narrowed as the view is. */
function Files({ filters }: { filters: Record<string, string> }) {
  const query = asQuery(filters);
  const table = `drift.csv${query ? `${query}&` : "?"}for=spreadsheet`;
  const kinds: [string, string, string][] = [
    ["CSV", table, "CSV for a spreadsheet: the drift shown"],
    ["plain CSV", `drift.csv${query}`, "plain CSV: the drift shown"],
    ["JSON", `drift.json${query}`, "JSON of the drift shown"],
    ["BOM", `firmware.cdx.json${query}`, "BOM of the firmware shown, CycloneDX"],
  ];
  return (
    <Row as="span" size="small" tone="quiet" gap={1} noWrap>
      {kinds.map(([label, file, words]) => (
        <FileLink key={label} href={`/api/v1/exports/${file}`} download aria-label={words}>
          {label}
        </FileLink>
      ))}
    </Row>
  );
}
