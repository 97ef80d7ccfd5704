import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import type { RolloverHost } from "../api";
import type { Phase } from "../panes";
import { service, show } from "../testing";
import { Batches } from "./batches";

const host = (n: number, batch: number, phase: Phase): RolloverHost => ({
  host: `tc-${n}`,
  batch,
  phase,
  state: "serving",
  since: "2026-11-23T06:00:00Z",
  why: phase === "failed" ? "a program did not open" : "",
  from: "2026.11.1",
  version: "2026.11.2",
  sessions: 0,
  progress: 40,
});

it("shows what is in flight first, and finished batches folded to a line that opens", async () => {
  service({});
  show(
    <Batches
      hosts={[host(1, 1, "done"), host(2, 1, "failed"), host(3, 2, "rebuilding"), host(4, 0, "queued")]}
      onOpen={() => {}}
    />,
  );
  const groups = screen.getAllByRole("group").map((g) => g.getAttribute("aria-label"));
  expect(groups).toEqual(["Batch 2", "Hosts in no batch"]);
  expect(screen.getByTitle("tc-3, rebuilding, runs 2026.11.2").textContent).toContain("40%");
  const folded = screen.getByRole("button", { name: "Batch 1 · 2 hosts: 1 done, 1 failed" });
  expect(folded.getAttribute("aria-expanded")).toBe("false");
  await userEvent.setup().click(folded);
  within(screen.getByRole("group", { name: "Batch 1" })).getByTitle(
    "tc-2, failed: a program did not open, runs 2026.11.2",
  );
});
