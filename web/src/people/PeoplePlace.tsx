import { useQuery } from "@tanstack/react-query";

import { me } from "../api/queries";
import { Split } from "../ui/Split";
import { Title } from "../ui/text";
import { Everyone } from "./Everyone";
import { You } from "./You";
import { Text } from "../ui/layout";

/** Who may do what here, and where one is signed in oneself. */
export function PeoplePlace() {
  const { data } = useQuery(me);
  if (!data?.name) return null;
  return (
    <Split label="People" panel={<You me={data} />} width={360}>
      <Title>People</Title>
      <Text tone="quiet" size="body" maxWidth={720} mb={1.5}>
        Five rights, given to each person by name. Nobody has one that was not given; what somebody may not do
        is shown as such, with whom to ask.
      </Text>
      <Everyone me={data} />
    </Split>
  );
}
