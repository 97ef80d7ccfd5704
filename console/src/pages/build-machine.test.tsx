import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import { service, show } from "../testing";
import { BuildMachinePage } from "./build-machine";

const at = "/api/v1/sites/north-quay/build-machines/bm-new";
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
  ran_seconds: 7500,
  checkpoints: [
    { name: "as it came", made_at: "2026-11-23T12:10:00Z" },
    { name: "with printers", made_at: "2026-11-23T12:40:00Z" },
  ],
};
const check = {
  state: "done",
  asked_at: "2026-11-23T13:00:00Z",
  stale: false,
  findings: [
    {
      check: "secrets-left",
      severity: "blocks",
      evidence: "there are secrets in /root/id (a private key)",
      remedy: "remove them",
      repair: "delete /root/id",
    },
    { check: "clock-off", severity: "warns", evidence: "it is 2m behind", remedy: "set it" },
  ],
};
const page = () =>
  show(
    <BuildMachinePage />,
    "operator",
    "/build-machines/north-quay/bm-new",
    "/build-machines/:site/:machine",
  );
const asks = async (dialog: HTMLElement, label: string) =>
  userEvent.click(within(dialog).getByRole("button", { name: label }));

it("says what the seal checks found, and repairs what can be after saying how", async () => {
  const { asked } = service({
    [`GET ${at}`]: machine,
    [`GET ${at}/check`]: check,
    [`POST ${at}/check`]: { ...check, state: "under way", findings: [] },
    [`POST ${at}/repair`]: { ...machine, state: "repairing" },
  });
  page();
  await screen.findByText("there are secrets in /root/id (a private key)");
  screen.getByText("Made 2026-11-23 13:00.");
  expect(screen.getAllByRole("button", { name: "Repair" })).toHaveLength(1);
  await userEvent.click(screen.getByRole("button", { name: "Repair" }));
  const dialog = await screen.findByRole("dialog", { name: "Repair secrets-left on bm-new" });
  within(dialog).getByText("That will delete /root/id.");
  await asks(dialog, "Repair");
  await waitFor(() =>
    expect(asked.find((a) => a.what === `POST ${at}/repair`)?.body).toEqual({ check: "secrets-left" }),
  );
  await userEvent.click(screen.getByRole("button", { name: "Check now" }));
  await screen.findByText("They are being made.");
});

it("goes back to the checkpoint that is chosen", async () => {
  const { asked } = service({
    [`GET ${at}`]: machine,
    [`GET ${at}/check`]: { state: "", stale: true, findings: [] },
    [`POST ${at}/back`]: { ...machine, state: "going back" },
    [`POST ${at}/checkpoint`]: { ...machine, state: "checkpointing" },
  });
  page();
  await userEvent.click(await screen.findByRole("button", { name: "Go back" }));
  let dialog = await screen.findByRole("dialog", { name: "Have bm-new go back to a checkpoint" });
  const choice = within(dialog).getByRole("combobox") as HTMLSelectElement;
  expect(choice.value).toBe("with printers");
  await userEvent.selectOptions(choice, "as it came");
  await asks(dialog, "Go back");
  await waitFor(() =>
    expect(asked.find((a) => a.what === `POST ${at}/back`)?.body).toEqual({ checkpoint: "as it came" }),
  );
  await userEvent.click(screen.getByRole("button", { name: "Checkpoint" }));
  dialog = await screen.findByRole("dialog", { name: "Make a checkpoint of bm-new" });
  await userEvent.type(within(dialog).getByRole("textbox"), "with fares");
  await asks(dialog, "Checkpoint");
  await waitFor(() =>
    expect(asked.find((a) => a.what === `POST ${at}/checkpoint`)?.body).toEqual({ checkpoint: "with fares" }),
  );
});

it("takes notes, and says what was tried and how it went", async () => {
  const { asked } = service({
    [`GET ${at}`]: {
      ...machine,
      notes: [{ at: "2026-11-23T12:20:00Z", by: "jonas", text: "printer added" }],
    },
    [`GET ${at}/check`]: { state: "", stale: true, findings: [] },
    [`GET ${at}/tries`]: {
      items: [
        {
          step: "Tide Tables",
          kind: "install",
          state: "failed",
          why: "exit code 100",
          exit_code: 100,
          asked_at: "2026-11-23T12:15:00Z",
        },
      ],
      next: "",
    },
    [`POST ${at}/notes`]: machine,
  });
  page();
  await screen.findByText("printer added");
  await screen.findByText("exit code 100");
  expect(screen.getByRole("link", { name: "What went well, as a sheet" }).getAttribute("href")).toBe(
    `${at}/sheet.yaml`,
  );
  await userEvent.click(screen.getByRole("button", { name: "Write a note" }));
  const dialog = await screen.findByRole("dialog", { name: "Write a note on bm-new" });
  await userEvent.type(within(dialog).getByRole("textbox"), " fares checked ");
  await asks(dialog, "Write a note");
  await waitFor(() =>
    expect(asked.find((a) => a.what === `POST ${at}/notes`)?.body).toEqual({ text: "fares checked" }),
  );
});

it("makes a version in one act, and says what becomes of the machine", async () => {
  const { asked } = service({
    [`GET ${at}`]: {
      ...machine,
      notes: [{ at: "2026-11-23T12:30:00Z", by: "jonas", text: "with printers" }],
    },
    [`GET ${at}/check`]: check,
    "GET /api/v1/images": {
      items: [
        { name: "chart-desk", machine_class: "graphics", next_number: "1.1.0" },
        { name: "counter-desk", machine_class: "standard", next_number: "2026.11.3" },
      ],
      next: "",
    },
    "POST /api/v1/images/counter-desk/versions": { image: "counter-desk", number: "2026.11.3" },
  });
  page();
  await userEvent.click(await screen.findByRole("button", { name: "Seal and capture" }));
  const dialog = await screen.findByRole("dialog");
  await userEvent.type(within(dialog).getByLabelText("Why secrets-left is passed over"), "of the demo");
  await userEvent.selectOptions(
    within(dialog).getByLabelText("What becomes of the machine afterwards"),
    "back:with printers",
  );
  await userEvent.click(within(dialog).getByRole("button", { name: "Seal and capture" }));
  await screen.findByText("elsewhere");
  expect(asked.find((a) => a.what.startsWith("POST /api/v1/images"))?.body).toEqual({
    build_machine: "bm-new",
    site: "north-quay",
    notes: "with printers",
    tags: [],
    prove: true,
    back_to: "with printers",
    waive: { "secrets-left": "of the demo" },
  });
});

it("opens applications and takes over what a person has set", async () => {
  const { asked } = service({
    [`GET ${at}`]: machine,
    [`GET ${at}/check`]: check,
    [`GET ${at}/tries`]: { items: [], next: "" },
    [`GET ${at}/openings`]: {
      state: "done",
      asked_at: "2026-11-23T13:00:00Z",
      results: [
        { name: "Fare Desk", kind: "application", seconds: 2, picture: true },
        { name: "Berths", kind: "application", seconds: 60, picture: false, why: "no window", output: "oh" },
      ],
    },
    [`POST ${at}/openings`]: { state: "under way", results: [] },
    [`POST ${at}/tries`]: machine,
  });
  page();
  const picture = await screen.findByRole("img", { name: "What Fare Desk opened" });
  expect(picture.getAttribute("src")).toContain("/openings/picture.png?application=Fare%20Desk");
  screen.getByText("no window");
  await userEvent.click(screen.getByRole("button", { name: "Open them" }));
  await asks(await screen.findByRole("dialog"), "Open them");
  await screen.findByText(/They are being opened/);
  await userEvent.click(screen.getByRole("button", { name: "Take over settings" }));
  const dialog = await screen.findByRole("dialog");
  await userEvent.type(within(dialog).getByRole("textbox", { name: /Person/ }), "ida");
  await asks(dialog, "Take over settings");
  await waitFor(() => expect(asked.some((a) => a.what === `POST ${at}/tries`)).toBe(true));
  expect(asked.find((a) => a.what === `POST ${at}/tries`)?.body).toMatchObject({
    step: "Settings of ida",
    sheet: expect.stringContaining("person: ida"),
  });
});
