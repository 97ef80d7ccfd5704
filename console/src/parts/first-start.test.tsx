import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import type { Version } from "../api";
import { service, show } from "../testing";
import { FirstStart } from "./first-start";

const version = {
  image: "counter-desk",
  number: "2026.11.4",
  state: "sealed",
  copies: [{ site: "south-quay", ordinal: 1, state: "present", progress: 100, failure: "" }],
} as unknown as Version;
const proof = {
  id: 4,
  image: "counter-desk",
  version: "2026.11.4",
  site: "south-quay",
  machine: "proof-4",
  state: "failed",
  settled: true,
  why: "Berth Planner: it did not open",
  asked_by: "jonas",
  asked_at: "2026-11-23T12:00:00Z",
  ended_at: "2026-11-23T12:10:00Z",
  first_start_seconds: 72.4,
};
const kept = {
  ...proof,
  id: 5,
  machine: "proof-5",
  state: "kept",
  settled: false,
  why: "",
  ended_at: undefined,
  until: "2026-11-23T14:00:00Z",
};
const answers = {
  "GET /api/v1/sites": { items: [{ name: "north-quay" }, { name: "south-quay" }], next: "" },
  "GET /api/v1/proofs": { items: [kept, proof], next: "" },
  "GET /api/v1/proofs/4": {
    ...proof,
    picture: true,
    results: [
      { name: "Fare Desk", kind: "application", seconds: 3.21 },
      { name: "Berth Planner", kind: "application", seconds: 60, why: "it did not open", output: "no berth" },
    ],
  },
  "GET /api/v1/proofs/5": {
    ...kept,
    picture: false,
    results: [],
    runs: { display: "vnc://127.0.0.1:5901 on hv-1", network: "user", disks: [] },
  },
};

it("says what came up, what did not and how, and how a kept machine is reached", async () => {
  service(answers);
  show(<FirstStart version={version} />);
  await screen.findByText("Berth Planner: it did not open");
  await screen.findByText("no berth");
  screen.getByText("3.2 s");
  screen.getByRole("img", { name: "The display of proof-4" });
  await screen.findByText(/display vnc:\/\/127.0.0.1:5901 on hv-1/);
  expect(screen.getAllByRole("button", { name: "Let go" })).toHaveLength(1);
});

it("makes a machine to try where there is a copy, for as long as is said", async () => {
  const { asked } = service({
    ...answers,
    "POST /api/v1/images/counter-desk/versions/2026.11.4/try": answers["GET /api/v1/proofs/5"],
  });
  show(<FirstStart version={version} />);
  await userEvent.click(await screen.findByRole("button", { name: "Make a machine to try" }));
  const dialog = await screen.findByRole("dialog");
  const site = within(dialog).getByRole("combobox") as HTMLSelectElement;
  await waitFor(() => expect(site.value).toBe("south-quay"));
  within(dialog).getByRole("option", { name: "north-quay, to which a copy is delivered first" });
  const hours = within(dialog).getByLabelText("For how many hours");
  await userEvent.clear(hours);
  await userEvent.type(hours, "6");
  await userEvent.click(within(dialog).getByRole("button", { name: "Make a machine to try" }));
  await waitFor(() =>
    expect(asked.find((a) => a.what.endsWith("/try"))?.body).toEqual({ site: "south-quay", seconds: 21600 }),
  );
});
