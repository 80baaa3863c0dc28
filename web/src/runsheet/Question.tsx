import { useMutation, useQuery } from "@tanstack/react-query";

import { api, take, type RunServer } from "../api/client";
import { server as serverQuery } from "../shell/reading";
import { Settle } from "../shell/Unread";
import { Act } from "../ui/Act";
import { Notice } from "../ui/Notice";
import { Block, Row, Text } from "../ui/layout";

const ANSWERS: Record<string, string> = {
  force: "restart it by force",
  leave: "leave it as it is",
  try: "try it",
};

/** What a server of a run waits with until a person has decided; meanwhile it is watched on. */
export function Question({ run, lane }: { run: number; lane: RunServer }) {
  const answer = useMutation({
    mutationFn: (given: "force" | "leave" | "try") =>
      take(
        api.POST("/api/v1/runs/{id}/servers/{name}/answer", {
          params: { path: { id: run, name: lane.server } },
          body: { answer: given },
        }),
      ),
  });
  const isRemedy = lane.question_kind === "try a remedy";
  const isOut = lane.question_kind === "let in again";
  return (
    <Notice calm={isRemedy || isOut} title={`${lane.server} asks`}>
      {lane.question.charAt(0).toUpperCase() + lane.question.slice(1)}
      <Text size="small" mt={0.5}>
        {isOut
          ? "Nothing is sent to it meanwhile. Left as it is, the server ends here for a person, half done."
          : isRemedy
            ? "Tried once. Left as it is, the next remedy that the house lets be tried is asked for, and then the server ends here for a person."
            : "By force, its system has no time to close its programs. Left as it is, the server ends here for a person and counts as away until it is back. If it restarts by itself meanwhile, the run goes on."}
      </Text>
      {isOut && <LetIn name={lane.server} />}
      {lane.answer ? (
        <Text role="status" mt={0.75} strong>
          Answered: {ANSWERS[lane.answer] ?? lane.answer}
        </Text>
      ) : (
        <Row wrap gap={1} mt={1}>
          {!isOut && (
            <Act
              takes="run"
              variant="outlined"
              color={isRemedy ? "primary" : "error"}
              onClick={() => answer.mutate(isRemedy ? "try" : "force")}
              loading={answer.isPending}
            >
              {isRemedy ? `Try it on ${lane.server}` : `Restart ${lane.server} by force`}
            </Act>
          )}
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

/** What keeps the run out of its controller, to be settled on the spot. */
function LetIn({ name }: { name: string }) {
  const { data } = useQuery(serverQuery(name));
  if (!data) return null;
  if (data.failure) return <Settle server={data} />;
  return (
    <Text role="status" mt={0.75} strong>
      That is settled. The run goes on as soon as it has looked.
    </Text>
  );
}
