import { screen, within } from "@testing-library/react";
import { expect, it } from "vitest";
import { service, show } from "../testing";
import { BuildsPage } from "./builds";

const build = (id: number, state: string, minutes?: number) => ({
  id,
  image: "counter-desk",
  version: state === "ready" ? `2026.11.${id}` : "",
  state,
  site: "north-quay",
  base: "disk vendor.qcow2",
  done: 3,
  total: 10,
  machine: `build-${id}`,
  started_at: "2026-11-23T12:00:00Z",
  ended_at: minutes && new Date(Date.UTC(2026, 10, 23, 12, minutes)).toISOString(),
  started_by: "jonas",
});

it("shows the builds that go on first, and how long the others took", async () => {
  service({
    "GET /api/v1/images": { items: [{ name: "counter-desk" }, { name: "chart-desk" }], next: "" },
    "GET /api/v1/builds": {
      items: [build(4, "working"), build(3, "failed", 5), build(2, "ready", 40), build(1, "ready", 30)],
      next: "",
    },
    "GET /api/v1/builds/4": {
      ...build(4, "working"),
      steps: [{ name: "Updates", state: "under way" }],
      expected: { builds: 2, ready_at: "2026-11-23T12:40:00Z" },
    },
  });
  show(<BuildsPage />, "operator", "/builds");
  const running = await screen.findByRole("table", { name: "Running builds" });
  within(running).getByText("3 of 10 steps");
  await within(running).findByText("Updates");
  within(running).getByText("about 2026-11-23 12:40");
  const list = screen.getByRole("table", { name: "Builds" });
  expect(within(list).queryByRole("link", { name: "4" })).toBeNull();
  expect(within(list).getAllByRole("row")).toHaveLength(4);
  await screen.findByRole("img", {
    name: "How long the last 3 builds took, in minutes: build 1 30, build 2 40, build 3 5 until it failed.",
  });
});

it("says of one image what its builds take, by the size of their machines", async () => {
  service({
    "GET /api/v1/images": { items: [{ name: "counter-desk" }], next: "" },
    "GET /api/v1/builds": { items: [build(1, "ready", 30)], next: "" },
    "GET /api/v1/images/counter-desk/build-sizes": {
      items: [
        {
          machine_class: "standard",
          cores: 8,
          builds: 3,
          took_seconds: 9480,
          cost: "0.31",
          currency: "EUR",
          used_cores: 1.46,
          has_cores: 8,
          advice: ["1.5 of its 8 cores were busy: fewer would do"],
        },
      ],
      next: "",
    },
  });
  show(<BuildsPage />, "viewer", "/builds?image=counter-desk");
  const table = await screen.findByRole("table", { name: "What a build takes" });
  within(table).getByText("standard, 8 cores");
  within(table).getByText("1.5 of 8");
  within(table).getByText("0.31 EUR");
  within(table).getByText("1.5 of its 8 cores were busy: fewer would do");
});
