import { useQuery } from "@tanstack/react-query";

import type { Me, Right } from "./client";
import { me } from "./queries";

/** Why a person may not do what takes a right, and whom to ask; null when they may. */
export function barredBy(right: Right, who: Me | undefined): string | null {
  if (!who || who.rights.includes(right)) return null;
  const able = who.table.find((row) => row.right === right)?.who ?? [];
  const whom = able.length ? `${able.join(", ")} can.` : "Nobody here has it.";
  return `It takes the right to ${right}, which you don't have. ${whom}`;
}

/** The same for whoever is signed in; a thing that takes no right is barred to nobody. */
export function useBarred(right: Right | undefined): string | null {
  const { data } = useQuery(me);
  return right ? barredBy(right, data) : null;
}
