import { screen, within } from "@testing-library/react";
import { expect, it } from "vitest";
import { service, show } from "../testing";
import { GoingBack } from "./readiness";

const at = "GET /api/v1/images/counter-desk/readiness";
const ready = {
  pool: "ticket-counters",
  site: "north-quay",
  hosts: 12,
  ready: true,
  why: [],
  but: ["copy 2 at north-quay is on its way"],
  seconds: 1500,
  takes: "about 25 min",
  people: "7 people are signed in there now, and waited for, however long they stay",
  read_at: "2026-11-23T08:00:00Z",
};

it("says pool by pool whether an image could be rolled back", async () => {
  service({
    [at]: {
      to: "2026.11.2",
      ready: false,
      says: "Going back to 2026.11.2 is not possible everywhere.",
      seconds: 0,
      unseen: [],
      pools: [
        ready,
        {
          ...ready,
          pool: "back-office",
          site: "south-quay",
          ready: false,
          hosts: 0,
          seconds: 0,
          takes: undefined,
          why: ["no copy of 2026.11.2 is at south-quay"],
          but: [],
          people: undefined,
          read_at: undefined,
        },
      ],
    },
  });
  show(<GoingBack image="counter-desk" />);
  await screen.findByText("Going back to 2026.11.2 is not possible everywhere.");
  const [, first, second] = within(screen.getByRole("table", { name: "Going back" })).getAllByRole("row");
  for (const text of ["ready", "12", "about 25 min", ready.but[0], ready.people])
    within(first).getByText(text);
  for (const text of ["not ready", "none", "no copy of 2026.11.2 is at south-quay"])
    within(second).getByText(text);
});

it("says so when there is nothing to go back to", async () => {
  service({
    [at]: {
      to: "",
      ready: false,
      says: "Going back is not possible: no version was ever live.",
      seconds: 0,
      pools: [],
    },
  });
  show(<GoingBack image="counter-desk" />);
  await screen.findByText("Going back is not possible: no version was ever live.");
  expect(screen.queryByRole("table")).toBeNull();
  expect(screen.queryByText("not ready")).toBeNull();
});
