import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import { Refused, service, show } from "../testing";
import { BuildMachinesPage } from "./build-machines";

const machine = {
  id: 6,
  site: "north-quay",
  name: "bm-new",
  state: "running",
  base: "counter-desk 2026.11.2",
  machine_class: "standard",
  purpose: "printers at the counter",
  owner: "jonas",
  asked_at: "2026-11-23T12:00:00Z",
  started_at: "2026-11-23T12:00:00Z",
  ran_seconds: 7500,
  cost: "0.25",
  currency: "EUR",
};

const list = (...items: unknown[]) => ({ items, next: "" });

function row(name: string) {
  return within(screen.getByRole("cell", { name }).closest("tr") as HTMLElement);
}

it("says of each machine what it is for, how long it has run and what that cost", async () => {
  const built = { ...machine, id: 7, name: "build-3", state: "sealed", build: 3, cost: undefined };
  service({ "GET /api/v1/build-machines": list(built, machine) });
  show(<BuildMachinesPage />, "operator");
  await screen.findByText("bm-new");
  row("bm-new").getByText("2 h 05 min");
  row("bm-new").getByText("0.25 EUR");
  row("bm-new").getByRole("button", { name: "Stop" });
  expect(row("bm-new").queryByRole("button", { name: "Start" })).toBeNull();
  expect(row("bm-new").queryByRole("button", { name: "Keep" })).toBeNull();
  expect(row("build-3").queryByRole("button")).toBeNull();
  expect(screen.getByRole("link", { name: "build-3" }).getAttribute("href")).toBe(
    "/build-machines/north-quay/build-3",
  );
});

it("a machine that will be discarded says when, and can be kept", async () => {
  const left = { ...machine, state: "off", notices: 1, discard_at: "2026-12-01T18:01:00Z" };
  const { asked } = service({
    "GET /api/v1/build-machines": list(left),
    "POST /api/v1/sites/north-quay/build-machines/bm-new/keep": { ...left, notices: 0 },
  });
  show(<BuildMachinesPage />, "operator");
  await screen.findByText(/It is discarded on 2026-12-01 18:01 UTC/);
  await userEvent.click(screen.getByRole("button", { name: "Keep" }));
  await userEvent.click(within(await screen.findByRole("dialog")).getByRole("button", { name: "Keep" }));
  await waitFor(() =>
    expect(asked.map((a) => a.what)).toContain("POST /api/v1/sites/north-quay/build-machines/bm-new/keep"),
  );
});

it("a machine is asked for at a site, from a base disk, and a refusal keeps the form", async () => {
  const { asked } = service({
    "GET /api/v1/build-machines": list(),
    "GET /api/v1/sites": list(
      { name: "north-quay", build_machines: [] },
      { name: "south-quay", build_machines: [] },
    ),
    "GET /api/v1/images": list(),
    "POST /api/v1/sites/south-quay/build-machines": new Refused(409, "tc-001 is the name of a host"),
  });
  show(<BuildMachinesPage />, "operator");
  await userEvent.click(await screen.findByRole("button", { name: "Make a build machine" }));
  const form = within(await screen.findByRole("dialog"));
  await userEvent.selectOptions(await form.findByLabelText("Site"), "south-quay");
  await userEvent.type(form.getByLabelText(/^Name/), "tc-001");
  await userEvent.type(form.getByLabelText("For"), "printers");
  await userEvent.type(form.getByLabelText(/^Base disk/), "debian.qcow2");
  await userEvent.type(form.getByLabelText(/^Machine class/), "standard");
  await userEvent.click(form.getByRole("button", { name: "Make a build machine" }));
  expect((await form.findByRole("alert")).textContent).toContain("tc-001 is the name of a host");
  expect(asked.find((a) => a.what.startsWith("POST"))?.body).toEqual({
    name: "tc-001",
    purpose: "printers",
    base_disk: "debian.qcow2",
    machine_class: "standard",
  });
});

it("a machine is made from a host, which is said to be out of service then", async () => {
  const { asked } = service({
    "GET /api/v1/build-machines": list(),
    "GET /api/v1/sites": list({ name: "north-quay", build_machines: [] }),
    "GET /api/v1/images": list(),
    "POST /api/v1/sites/north-quay/build-machines": { ...machine, state: "waiting", from_host: "tc-007" },
  });
  show(<BuildMachinesPage />, "operator");
  await userEvent.click(await screen.findByRole("button", { name: "Make a build machine" }));
  const form = within(await screen.findByRole("dialog"));
  await userEvent.type(form.getByLabelText(/^Name/), "bm-copy");
  await userEvent.selectOptions(form.getByLabelText("Made from"), "a host");
  await userEvent.type(form.getByLabelText(/^Host/), "tc-007");
  form.getByText(/out of service then until it is rebuilt/);
  await userEvent.click(form.getByRole("button", { name: "Make a build machine" }));
  await waitFor(() =>
    expect(asked.map((a) => a.what)).toContain("POST /api/v1/sites/north-quay/build-machines"),
  );
  expect(asked.find((a) => a.what.startsWith("POST"))?.body).toEqual({
    name: "bm-copy",
    purpose: "",
    host: "tc-007",
  });
});

it("a machine is made from a base that is ready, in the class that is said", async () => {
  const { asked } = service({
    "GET /api/v1/build-machines": list(),
    "GET /api/v1/sites": list({ name: "north-quay", build_machines: [] }),
    "GET /api/v1/images": list(),
    "GET /api/v1/bases": list(
      { name: "harbour-13", state: "ready" },
      { name: "harbour-14", state: "failed" },
    ),
    "POST /api/v1/sites/north-quay/build-machines": { ...machine, state: "waiting", base: "base harbour-13" },
  });
  show(<BuildMachinesPage />, "operator");
  await userEvent.click(await screen.findByRole("button", { name: "Make a build machine" }));
  const form = within(await screen.findByRole("dialog"));
  await form.findByRole("option", { name: "base harbour-13" });
  expect(form.queryByRole("option", { name: "base harbour-14" })).toBeNull();
  await userEvent.type(form.getByLabelText(/^Name/), "bm-harbour");
  await userEvent.selectOptions(form.getByLabelText("Made from"), "base harbour-13");
  await userEvent.type(form.getByLabelText(/^Machine class/), "standard");
  await userEvent.click(form.getByRole("button", { name: "Make a build machine" }));
  await waitFor(() =>
    expect(asked.map((a) => a.what)).toContain("POST /api/v1/sites/north-quay/build-machines"),
  );
  expect(asked.find((a) => a.what.startsWith("POST"))?.body).toEqual({
    name: "bm-harbour",
    purpose: "",
    base: "harbour-13",
    machine_class: "standard",
  });
});

it("a machine that waits for its host can be discarded, and nothing else", async () => {
  service({ "GET /api/v1/build-machines": list({ ...machine, state: "waiting", from_host: "tc-007" }) });
  show(<BuildMachinesPage />, "operator");
  await screen.findByText("bm-new");
  expect(
    row("bm-new")
      .getAllByRole("button")
      .map((b) => b.textContent),
  ).toEqual(["Discard"]);
  await userEvent.click(row("bm-new").getByRole("button", { name: "Discard" }));
  within(await screen.findByRole("dialog")).getByText(/Host tc-007 is put back to service/);
});

it("who only looks is offered no act", async () => {
  service({ "GET /api/v1/build-machines": list(machine) });
  show(<BuildMachinesPage />, "viewer");
  await screen.findByText("bm-new");
  expect(screen.queryByRole("button")).toBeNull();
});
