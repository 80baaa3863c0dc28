import Button from "@mui/material/Button";

import type { RunRecord } from "../api/client";
import { Block, Row, Text } from "../ui/layout";
import { Mono } from "../ui/text";

/** The record as files: to be proved, to be reckoned with, and for other people's tools. */
export function Files({ data }: { data: RunRecord }) {
  const file = (rest: string) => `/api/v1/exports/records/${data.id}${rest}`;
  const files: readonly (readonly [string, string])[] = [
    ["Signed record", ".json"],
    ["Table of updates", ".csv"],
    ["Table for a spreadsheet", ".csv?for=spreadsheet"],
    ["Firmware before (CycloneDX)", ".cdx.json?when=before"],
    ["Firmware after (CycloneDX)", ".cdx.json?when=after"],
  ];
  return (
    <Block as="section" aria-label="The record as files" className="no-print" mb={1.5}>
      <Row wrap gap={1} align="center">
        {files.map(([words, rest]) => (
          <Button key={rest} variant="outlined" component="a" href={file(rest)} download>
            {words}
          </Button>
        ))}
      </Row>
      <Text size="note" tone="quiet" mt={0.5}>
        <Mono>ordnung record verify</Mono> checks the signed record anywhere.
      </Text>
    </Block>
  );
}
