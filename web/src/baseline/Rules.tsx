import Box from "@mui/material/Box";
import { type KeyboardEvent, useState } from "react";

import type { RuleRow } from "../api/client";
import { Act } from "../ui/Act";
import { Mono } from "../ui/text";
import { moveRule, type Rule } from "./draft";
import { type Options, RuleEditor } from "./RuleEditor";
import { Block, Text } from "../ui/layout";
import { Press } from "../ui/Press";
import { Section } from "../ui/Section";

const HEADS: Record<string, string> = { hold: "Hold", pin: "Pin", wait: "Wait", take: "Take" };

/** What a rule does, in a line. */
export function tellRule(rule: Rule): string {
  if (rule.do === "pin") return `to ${rule.version ?? "?"}`;
  if (rule.do === "wait")
    return `until ${rule.days ?? 0} days old${rule.unless_score ? `, except security fixes scored ${rule.unless_score} and up` : ""}`;
  return rule.do === "take" ? "the newest the issue offers" : "";
}

interface Props {
  rules: Rule[];
  told: RuleRow[];
  options: Options;
  person: string;
  change: (rules: Rule[]) => void;
}

/** House rules in order: the first that matches decides. Reordered by dragging, by Alt and arrows, or by buttons. */
export function Rules({ rules, told, options, person, change }: Props) {
  const [editing, edit] = useState<number | null>(null);
  const [said, say] = useState("");
  const [dragged, drag] = useState<number | null>(null);
  const move = (from: number, to: number) => {
    const next = moveRule(rules, from, to);
    if (next === rules) return;
    change(next);
    say(`Rule ${from + 1} is now rule ${to + 1} of ${rules.length}.`);
  };
  const keys = (event: KeyboardEvent, at: number) => {
    if (!event.altKey || (event.key !== "ArrowUp" && event.key !== "ArrowDown")) return;
    event.preventDefault();
    const to = at + (event.key === "ArrowUp" ? -1 : 1);
    move(at, to);
    const list = event.currentTarget.parentElement;
    window.setTimeout(() => (list?.children[to] as HTMLElement | undefined)?.focus(), 0);
  };
  return (
    <Section title="House rules, first match wins">
      <Box
        role="status"
        aria-live="polite"
        sx={{ position: "absolute", width: 1, height: 1, overflow: "hidden", clipPath: "inset(50%)" }}
      >
        {said}
      </Box>
      <Block as="ol" aria-label="House rules" m={0} mt={0.75} p={0} plain>
        {rules.map((rule, at) => (
          <Text
            as="li"
            ruled
            py={0.9}
            size="body"
            key={`${at} ${JSON.stringify(rule)}`}
            tabIndex={0}
            onKeyDown={(e) => keys(e, at)}
            draggable={editing === null}
            onDragStart={() => drag(at)}
            onDragEnd={() => drag(null)}
            onDragOver={(e) => e.preventDefault()}
            onDrop={() => {
              if (dragged !== null) move(dragged, at);
              drag(null);
            }}
            style={{ cursor: editing === null ? "grab" : undefined, opacity: dragged === at ? 0.5 : 1 }}
          >
            {editing === at ? (
              <RuleEditor
                start={rule}
                options={options}
                cancel={() => edit(null)}
                save={(next) => {
                  change(rules.map((r, n) => (n === at ? next : r)));
                  edit(null);
                }}
              />
            ) : (
              <RuleLine rule={rule} told={told[at]} at={at}>
                <Box component="span" sx={{ float: "right", display: "flex", gap: 1.25, ml: 1 }}>
                  <Small label={`Move rule ${at + 1} up`} act={() => move(at, at - 1)}>
                    ↑
                  </Small>
                  <Small label={`Move rule ${at + 1} down`} act={() => move(at, at + 1)}>
                    ↓
                  </Small>
                  <Small label={`Change rule ${at + 1}`} act={() => edit(at)}>
                    change
                  </Small>
                  <Small
                    label={`Take rule ${at + 1} out`}
                    act={() => change(rules.filter((_, n) => n !== at))}
                  >
                    ×
                  </Small>
                </Box>
              </RuleLine>
            )}
          </Text>
        ))}
      </Block>
      {editing === -1 ? (
        <Block ruled py={1}>
          <RuleEditor
            start={{ do: "hold", author: person }}
            options={options}
            cancel={() => edit(null)}
            save={(next) => {
              change([next, ...rules]);
              edit(null);
            }}
          />
        </Block>
      ) : (
        <Act takes="plan" variant="outlined" sx={{ mt: 0.75 }} onClick={() => edit(-1)}>
          Add a rule
        </Act>
      )}
    </Section>
  );
}

function Small({ label, act, children }: { label: string; act: () => void; children: string }) {
  return (
    <Press type="button" aria-label={`${label} ${children}`} onClick={act}>
      {children}
    </Press>
  );
}

function RuleLine({
  rule,
  told,
  at,
  children,
}: {
  rule: Rule;
  told: RuleRow | undefined;
  at: number;
  children: React.ReactNode;
}) {
  const by = [
    rule.author && `set by ${rule.author}`,
    rule.until && `until ${rule.until}`,
    told && `${told.decides} times`,
  ]
    .filter(Boolean)
    .join(", ");
  return (
    <Box sx={{ display: "grid", gridTemplateColumns: "18px 46px minmax(0,1fr)" }}>
      <Mono dim>{at + 1}</Mono>
      <strong>{HEADS[rule.do] ?? rule.do}</strong>
      <Block minWidth={0} breaks>
        {children}
        <strong>{told?.what ?? "…"}</strong> <Box component="span">{tellRule(rule)}</Box>
        <Text tone="quiet">
          {rule.reason}
          {rule.reason && by ? "; " : ""}
          {by}
        </Text>
        {told?.note && (
          <Text tone="pending" strong>
            {told.note}
          </Text>
        )}
      </Block>
    </Box>
  );
}
