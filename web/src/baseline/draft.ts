import type { Baseline, CoverageRow, Follow, RuleRow } from "../api/client";

/** A rule as a person writes it. */
export interface Rule {
  do: string;
  where?: Record<string, string | string[]>;
  version?: string;
  days?: number;
  unless_score?: number;
  reason?: string;
  author?: string;
  until?: string;
}
/** What a draft wants: the rules in order, and what models follow. */
export interface Proposal {
  rules: Rule[];
  follows: Follow[];
}

interface RulesDocument {
  rules?: Rule[];
}

/** What the revision that holds says. */
export const ofRevision = (revision: { rules?: unknown; follows: Follow[] }): Proposal => ({
  rules: (revision.rules as RulesDocument | undefined)?.rules ?? [],
  follows: revision.follows,
});

/** What is being edited: the kept draft, else what holds. */
export const startOf = (data: Baseline): Proposal =>
  data.draft ? ofRevision(data.draft) : ofRevision(data.revision);

/** A draft as the API wants it. */
export const asDocument = (
  wanted: Proposal,
): { rules: { format: string; rules: Rule[] }; follows: Follow[] } => ({
  rules: { format: "ordnung.rules/1", rules: wanted.rules },
  follows: wanted.follows,
});

const spell = (rule: Rule): string =>
  JSON.stringify(
    Object.entries(rule)
      .filter(([, v]) => v !== undefined && v !== "")
      .sort(),
  );
const spellFollow = (f: Follow): string => `${f.model}|${f.maker}|${f.catalog}|${f.issue}`;

/** Whether two drafts want the same, whatever the order of what they follow. */
export function isSame(one: Proposal, other: Proposal): boolean {
  const follows = (w: Proposal) => w.follows.map(spellFollow).sort().join("\n");
  return (
    one.rules.map(spell).join("\n") === other.rules.map(spell).join("\n") && follows(one) === follows(other)
  );
}

/** The rule at one place put at another; the rest keep their order. */
export function moveRule(rules: Rule[], from: number, to: number): Rule[] {
  if (to < 0 || to >= rules.length || from === to) return rules;
  const copy = rules.slice();
  const [moved] = copy.splice(from, 1);
  if (moved) copy.splice(to, 0, moved);
  return copy;
}

/** Let a model follow an issue of a catalog. */
export function follow(
  follows: Follow[],
  row: Pick<CoverageRow, "model" | "maker" | "catalog">,
  issue: string,
): Follow[] {
  const rest = follows.filter(
    (f) => !(f.model === row.model && f.maker === row.maker && f.catalog === row.catalog),
  );
  return [...rest, { model: row.model, maker: row.maker, catalog: row.catalog, issue }];
}

/** Every model on the last issue that covers it. */
export const followNewest = (follows: Follow[], rows: CoverageRow[]): Follow[] =>
  rows.reduce((all, row) => (row.newest ? follow(all, row, row.newest) : all), follows);

/** A rule as the server told it, without what it found out about it. */
export function plainRule(row: RuleRow): Rule {
  const rule: Rule = { do: row.do };
  if (Object.keys(row.where).length) rule.where = row.where;
  if (row.version) rule.version = row.version;
  if (row.days !== null) rule.days = row.days;
  if (row.unless_score !== null) rule.unless_score = row.unless_score;
  if (row.reason) rule.reason = row.reason;
  if (row.author) rule.author = row.author;
  if (row.until) rule.until = row.until;
  return rule;
}
