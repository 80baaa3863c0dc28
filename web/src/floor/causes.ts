import vocabulary from "../../../docs/vocabulary.json";

/** The remedies of the closed list of causes, for a whole batch; a single server's panel has the server's own words. */
export const CAUSES: Record<string, string> = vocabulary.causes;
