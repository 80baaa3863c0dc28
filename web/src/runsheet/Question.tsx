import { useMutation } from "@tanstack/react-query";

import { api, take, type RunServer } from "../api/client";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Block, Row, Text } from "../ui/layout";

/** What a server of a run waits with until a person has decided; meanwhile it is watched on. */
export function Question({ run, lane }: { run: number; lane: RunServer }) {
  const answer = useMutation({
    mutationFn: (given: "force" | "leave") =>
      take(
        api.POST("/api/v1/runs/{id}/servers/{name}/answer", {
          params: { path: { id: run, name: lane.server } },
          body: { answer: given },
        }),
      ),
  });
  return (
    <Notice title={`${lane.server} asks`}>
      {lane.question.charAt(0).toUpperCase() + lane.question.slice(1)}
      <Text size="small" mt={0.5}>
        By force, its system has no time to close its programs. Left as it is, the server ends here for a
        person and counts as away until it is back. If it restarts by itself meanwhile, the run goes on.
      </Text>
      {lane.answer ? (
        <Text role="status" mt={0.75} strong>
          Answered: {lane.answer === "force" ? "restart it by force" : "leave it as it is"}
        </Text>
      ) : (
        <Row wrap gap={1} mt={1}>
          <Act
            takes="run"
            variant="outlined"
            color="error"
            onClick={() => answer.mutate("force")}
            loading={answer.isPending}
          >
            Restart {lane.server} by force
          </Act>
          <Act
            takes="run"
            variant="outlined"
            onClick={() => answer.mutate("leave")}
            loading={answer.isPending}
          >
            Leave it as it is
          </Act>
        </Row>
      )}
      {answer.error && (
        <Block role="alert" mt={0.75}>
          {answer.error.message}
        </Block>
      )}
    </Notice>
  );
}
