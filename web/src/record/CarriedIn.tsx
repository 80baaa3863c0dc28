import { useMutation, useQueryClient } from "@tanstack/react-query";

import { type Carried, sendFile } from "../api/client";
import { FileButton } from "../shell/FileButton";
import { Block, Text } from "../ui/layout";
import { TextLink } from "../ui/links";
import { Notice } from "../ui/Notice";

/** Bring a journal in; what became of it outlives the place's change from empty to filled. */
export function useCarry() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (file: File) => sendFile<Carried>("/api/v1/runs/carried", file),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["runs"] }),
  });
}

/** Bring in what a field kit did without us: each of its runs is on record from then on, or it is said why not. */
export function CarriedIn({ carry }: { carry: ReturnType<typeof useCarry> }) {
  return (
    <div>
      <FileButton
        label="Carry in a field kit's journal"
        name="journal.jsonl of a field kit"
        takes="run"
        accept=".jsonl"
        pending={carry.isPending}
        chosen={([file]) => file && carry.mutate(file)}
      />
      {carry.error && <Notice>{carry.error.message}</Notice>}
      {carry.data && (
        <Block mt={1} role="status" aria-label="Carried in">
          {carry.data.runs.length === 0 && <Text>The journal tells of no run.</Text>}
          {carry.data.runs.map((run, at) => (
            <Text key={at} tone={run.run === null ? "deep" : "plain"}>
              {run.run === null ? run.server : <TextLink to={`/record/${run.run}`}>{run.server}</TextLink>}:{" "}
              {run.told}.
            </Text>
          ))}
        </Block>
      )}
    </div>
  );
}
