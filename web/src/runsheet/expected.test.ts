import { expect, test } from "vitest";

import { tellDelay, tellPersons } from "./expected";

test.each([
  [
    { limit: "group gauge pair 1", server_minutes: 47, with_more_seconds: 720 },
    "What holds the end: how many of gauge pair 1 may be away; servers wait 47 min in all. One place more would end it 12 min earlier.",
  ],
  [
    { limit: "servers at once", server_minutes: 300, with_more_seconds: 0 },
    "What delays most: how many servers are worked on at once; servers wait 5 h 0 min in all. One place more would not end it earlier.",
  ],
  [
    { limit: "rack K1", server_minutes: 3, with_more_seconds: null },
    "What delays most: how many of rack K1 may be away; servers wait 3 min in all.",
  ],
])("a delay is told with its remedy", (delay, told) => {
  expect(tellDelay(delay)).toBe(told);
});

test.each([
  [0.01, "Hardly any server is to be expected to need a person."],
  [0.25, "About one in 4 such runs has a server that needs a person."],
  [0.9, "About one in 2 such runs has a server that needs a person."],
  [2.4, "About 2 of its servers will probably need a person."],
])("so many need a person: %f", (expected, told) => {
  expect(tellPersons(expected)).toBe(told);
});
