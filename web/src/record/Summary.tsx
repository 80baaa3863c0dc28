import type { RunRecord } from "../api/client";
import { Block, Text } from "../ui/layout";

/** A run in a few sentences, what needs somebody first. */
export function Summary({ data }: { data: RunRecord }) {
  const [first, ...rest] = data.summary;
  return (
    <Block as="section" aria-label="Summary" my={1.25} maxWidth={820}>
      <Text strong>{first}</Text>
      {rest.map((line) => (
        <Text key={line} size="body" mt={0.5}>
          {line}
        </Text>
      ))}
      {data.forecasts > 1 && (
        <Text size="note" tone="quiet" mt={0.5}>
          Of the last {data.forecasts} runs {data.forecasts_kept} kept to what was foretold with nine in ten.
        </Text>
      )}
    </Block>
  );
}
