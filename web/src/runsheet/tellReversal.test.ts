import { expect, test } from "vitest";

import type { Reversal } from "../api/client";
import { tellReversal } from "./tellReversal";

const found: Reversal = {
  slot: "bios",
  name: "Reed 14 BIOS",
  before: "2.1.0",
  to: "2.4.1",
  repositories: [{ id: 1, name: "Kelp", edition: 2 }],
  stored: true,
  barred: "",
  seconds: 600,
  resets: "1 reboot",
  outage: true,
};

test.each([
  [{}, "not all the way to 2.1.0; 1 reboot; about 10 min; out of service meanwhile; packed in Kelp"],
  [{ to: "2.1.0", resets: "", outage: false }, "no reset; about 10 min; packed in Kelp"],
  [{ stored: false, repositories: [] }, "pack it before"],
  [{ barred: "a floor" }, "no way back: a floor"],
])("%o", (change, told) => expect(tellReversal({ ...found, ...change })).toContain(told));
