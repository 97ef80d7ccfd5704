import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import { valuesOf } from "../parts/start-build";
import { Refused, service, show } from "../testing";
import { BuildPage } from "./build";
import { BuildsPage } from "./builds";

const build = {
  id: 3,
  image: "counter-desk",
  site: "north-quay",
  base: "counter-desk 2026.11.2",
  version: "",
  state: "failed",
  settled: true,
  machine: "build-3",
  started_by: "jonas",
  started_at: "2026-11-23T06:00:00Z",
  ended_at: "2026-11-23T06:05:10Z",
  why: "step 2, Tide Tables, failed: exit code 100",
  cancel: "",
  done: 1,
  total: 2,
};

const whole = {
  ...build,
  sheet: "image: counter-desk\n",
  checked: false,
  steps: [
    {
      name: "Fare Desk",
      kind: "install",
      state: "done",
      attempts: 1,
      began_at: "2026-11-23T06:01:00Z",
      ended_at: "2026-11-23T06:02:05Z",
      exit_code: 0,
      why: "",
      output: "Setting up fare-desk ...\n", // which the log has
    },
    {
      name: "Tide Tables",
      kind: "install",
      state: "failed",
      attempts: 3,
      exit_code: 100,
      why: "exit code 100",
      output: "E: Unable to locate package tide-table\n",
    },
  ],
  findings: [
    {
      check: "leftovers",
      severity: "warns",
      evidence: "steps left /tmp/x",
      remedy: "remove what no host needs",
    },
  ],
};

it("a build that failed says at which step, what that wrote, and what its checks found", async () => {
  service({ "GET /api/v1/builds/3": whole });
  show(<BuildPage />, "operator", "/builds/3", "/builds/:build");
  await screen.findByText("step 2, Tide Tables, failed: exit code 100");
  const steps = within(screen.getByRole("table", { name: "Steps" })).getAllByRole("row");
  within(steps[2] as HTMLElement).getByText("E: Unable to locate package tide-table");
  within(steps[1] as HTMLElement).getByText("1 min 5 s");
  within(steps[2] as HTMLElement).getByText("failed");
  within(steps[2] as HTMLElement).getByText("3");
  within(screen.getByRole("table", { name: "Seal checks" })).getByText("steps left /tmp/x");
  expect(screen.getByText("Machine").nextElementSibling?.textContent).toBe("build-3, discarded");
  screen.getByText("image: counter-desk");
  expect(screen.queryByRole("button", { name: "Cancel the build" })).toBeNull();
});

it("a build that goes on says when it is ready, by the builds before it", async () => {
  service({
    "GET /api/v1/builds/3": {
      ...whole,
      state: "working",
      steps: [{ ...whole.steps[0], state: "under way", ended_at: undefined, last_seconds: 75 }],
      expected: {
        builds: 4,
        median_seconds: 3600,
        worst_seconds: 7200,
        ready_at: "2026-11-23T07:00:00Z",
        ready_by: "2026-11-23T08:00:00Z",
        tight: "its time limit is 1h, and an earlier build took 1h10m0s until it was sealed",
      },
    },
  });
  show(<BuildPage />, "operator", "/builds/3", "/builds/:build");
  const ready = await screen.findByText("Is ready");
  expect(ready.nextElementSibling?.textContent).toBe(
    "about 2026-11-23 07:00, at worst 2026-11-23 08:00, as 4 builds before it",
  );
  expect(screen.getByText("Warning").nextElementSibling?.textContent).toContain("its time limit is 1h");
  within(screen.getByRole("table", { name: "Steps" })).getByText("1 min 15 s");
});

it("a build whose machine is held goes on with a mended sheet, or lets the machine go", async () => {
  const held = { ...whole, settled: false, held_until: "2026-11-23T08:05:10Z" };
  const { asked } = service({
    "GET /api/v1/builds/3": held,
    "POST /api/v1/builds/3/go-on": held,
    "POST /api/v1/builds/3/hold": held,
    "POST /api/v1/builds/3/discard": held,
  });
  show(<BuildPage />, "operator", "/builds/3", "/builds/:build");
  await userEvent.click(await screen.findByRole("button", { name: "Go on" }));
  const text = await screen.findByRole("textbox", { name: "Build sheet" });
  await userEvent.clear(text);
  await userEvent.type(text, "image: mended");
  await userEvent.click(within(screen.getByRole("dialog")).getByRole("button", { name: "Go on" }));
  await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  await userEvent.click(screen.getByRole("button", { name: "Hold it longer" }));
  const hours = await screen.findByRole("spinbutton", { name: "Hours" });
  await userEvent.clear(hours);
  await userEvent.type(hours, "1.5");
  await userEvent.click(within(screen.getByRole("dialog")).getByRole("button", { name: "Hold it longer" }));
  await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  await userEvent.click(screen.getByRole("button", { name: "Discard its machine" }));
  await userEvent.click(
    within(await screen.findByRole("dialog")).getByRole("button", { name: "Discard its machine" }),
  );
  await waitFor(() => expect(asked.map((a) => a.what)).toContain("POST /api/v1/builds/3/discard"));
  expect(asked.find((a) => a.what.endsWith("/go-on"))?.body).toEqual({ sheet: "image: mended" });
  expect(asked.find((a) => a.what.endsWith("/hold"))?.body).toEqual({ seconds: 5400 });
});

it("its log says how much there is, and is searched by the service", async () => {
  const line = {
    number: 7,
    at: "2026-11-23T06:02:00Z",
    step: 2,
    attempt: 1,
    text: "E: Unable to locate package",
  };
  const { asked } = service({
    "GET /api/v1/builds/3": whole,
    "GET /api/v1/builds/3/log": { lines: [line], total: 2400, next: 2400, complete: true },
  });
  show(<BuildPage />, "operator", "/builds/3", "/builds/:build");
  await screen.findByText("2400 lines");
  expect(screen.getByRole("link", { name: "Download" }).getAttribute("href")).toBe(
    "/api/v1/builds/3/log.txt",
  );
  await userEvent.type(screen.getByRole("searchbox", { name: "Only lines with" }), "unable");
  await screen.findByText("1 of 2400 lines");
  expect(asked.map((a) => a.what)).toContain("GET /api/v1/builds/3/log?find=unable&limit=5000");
});

it("a build whose steps wrote nothing has an empty log", async () => {
  service({
    "GET /api/v1/builds/3": whole,
    "GET /api/v1/builds/3/log": { lines: [], total: 0, next: 0, complete: true },
  });
  show(<BuildPage />, "operator", "/builds/3", "/builds/:build");
  await screen.findByText("Its steps wrote nothing.");
});

it("a build that goes on can be cancelled until its capture, by who may", async () => {
  const going = { ...whole, state: "working", settled: false, findings: [], ended_at: undefined, why: "" };
  const { asked } = service({ "GET /api/v1/builds/3": going, "POST /api/v1/builds/3/cancel": going });
  show(<BuildPage />, "operator", "/builds/3", "/builds/:build");
  const user = userEvent.setup();
  await user.click(await screen.findByRole("button", { name: "Cancel the build" }));
  await user.type(await screen.findByLabelText("Reason"), "not this month");
  await user.click(within(screen.getByRole("dialog")).getByRole("button", { name: "Cancel the build" }));
  await waitFor(() =>
    expect(asked.find((a) => a.what === "POST /api/v1/builds/3/cancel")?.body).toEqual({
      reason: "not this month",
    }),
  );
  screen.getByText("They were not made.");
});

it("a build cannot be cancelled once it captures, nor by who only looks", async () => {
  service({ "GET /api/v1/builds/3": { ...whole, state: "capturing", checked: true, findings: [] } });
  show(<BuildPage />, "operator", "/builds/3", "/builds/:build");
  await screen.findByText("They found nothing.");
  expect(screen.queryByRole("button", { name: "Cancel the build" })).toBeNull();
});

it("a sheet that is wrong is told of, and the form keeps it", async () => {
  const { asked } = service({
    "GET /api/v1/builds": { items: [build], next: "" },
    "POST /api/v1/builds": new Refused(422, "the sheet is not right", [
      "line 2, column 1: the base is missing",
    ]),
  });
  show(<BuildsPage />, "operator", "/builds");
  const user = userEvent.setup();
  await screen.findByRole("link", { name: "3" });
  screen.getByText("1 of 2");
  await user.click(screen.getByRole("button", { name: "Start a build" }));
  const box = await screen.findByLabelText(/^Build sheet\*?$/);
  const file = new File(["image: counter-desk"], "sheet.yaml", { type: "application/yaml" });
  await user.upload(await screen.findByLabelText("A file with a build sheet"), file);
  await waitFor(() => expect((box as HTMLTextAreaElement).value).toBe("image: counter-desk"));
  await user.type(screen.getByLabelText("Values of its parameters"), "queue = office");
  await user.click(within(screen.getByRole("dialog")).getByRole("button", { name: "Start a build" }));
  await screen.findByText("line 2, column 1: the base is missing");
  expect(asked.find((a) => a.what === "POST /api/v1/builds")?.body).toEqual({
    sheet: "image: counter-desk",
    values: { queue: "office" },
    hold_seconds: 0,
  });
  expect((box as HTMLTextAreaElement).value).toBe("image: counter-desk");
});

it("values of parameters are read line by line", () => {
  expect(valuesOf("queue = office\n\n key=a=b \nnothing")).toEqual({
    queue: "office",
    key: "a=b",
    nothing: "",
  });
  expect(valuesOf(" \n")).toEqual({});
});
