import Button from "@mui/material/Button";
import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";

import { repositories } from "../api/queries";
import { repository as repositoryQuery } from "./queries";
import { EmptyPlace } from "../ui/EmptyPlace";
import { Sides } from "../ui/Sides";
import { Split } from "../ui/Split";
import { useAddress } from "../shell/selection";
import { ActionBar } from "../ui/ActionBar";
import { All } from "./All";
import { CarryIn } from "./CarryIn";
import { Compare } from "./Compare";
import { Draft } from "./Draft";
import { Holders } from "./Holders";
import { Shown } from "./Shown";
import { Supply } from "./Supply";
import { ThisOne } from "./ThisOne";
import { Stack, Text } from "../ui/layout";

const SIDES: [string, string][] = [
  ["this", "This one"],
  ["all", "All"],
  ["holders", "Seal holders"],
  ["supply", "Supply"],
];

/** What is packed and why, fetched, sealed, written out and carried in. */
export function RepositoryPlace() {
  const { data: all } = useQuery(repositories);
  const [address, change] = useAddress();
  const asked = Number(address.get("repository")) || all?.[0]?.id;
  const known = all?.some((r) => r.id === asked) ? asked : all?.[0]?.id;
  const { data: shown } = useQuery({ ...repositoryQuery(known ?? 0), enabled: known !== undefined });
  if (!all) return null;
  const show = (id: number | null) =>
    change({
      new: null,
      in: null,
      compare: null,
      trim: null,
      medium: null,
      revision: null,
      repository: id ? String(id) : null,
      side: null,
    });
  const plan = () => change({ new: "1", in: null, compare: null });
  const carry = () => change({ in: "1", new: null, compare: null });
  const other = Number(address.get("compare"));
  const side = address.get("side") ?? (known ? "this" : "all");
  const panels: Record<string, ReactNode> = {
    this: shown ? (
      <ThisOne repository={shown} editions={all} key={shown.id} />
    ) : (
      <Text tone="quiet">Nothing is packed yet.</Text>
    ),
    all: (
      <All
        all={all}
        shown={known}
        pick={show}
        compare={(id) => change({ compare: String(id), new: null, in: null })}
        plan={plan}
        carry={carry}
      />
    ),
    holders: <Holders />,
    supply: <Supply />,
  };
  return (
    <Split
      label="Repository"
      width={372}
      panel={
        <Stack gap={1.75} start>
          <Sides
            label="Beside the repository"
            sides={SIDES}
            shown={side}
            show={(key) => change({ side: key })}
          />
          {panels[side]}
        </Stack>
      }
    >
      {address.has("in") ? (
        <CarryIn show={show} close={all.length ? () => show(known ?? null) : null} />
      ) : address.has("new") ? (
        <Draft made={(r) => show(r.id)} close={() => show(null)} hasOthers={all.length > 0} />
      ) : other && known ? (
        <Compare one={other} other={known} close={() => change({ compare: null })} />
      ) : shown ? (
        <Shown repository={shown} show={show} />
      ) : (
        all.length === 0 && (
          <EmptyPlace
            drawing="bar"
            title="No repository yet"
            act={
              <ActionBar>
                <Button variant="contained" onClick={plan}>
                  See what would be packed
                </Button>
                <Button variant="outlined" onClick={carry}>
                  Carry one in
                </Button>
              </ActionBar>
            }
          >
            A repository holds every payload that chosen servers need: targets, must-stops and ways back,
            checked and sealed. Controllers are fed from it, and it can be carried to a site without network.
          </EmptyPlace>
        )
      )}
    </Split>
  );
}
