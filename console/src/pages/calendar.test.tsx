import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import { Refused, service, show } from "../testing";
import { CalendarPage } from "./calendar";

const list = (...items: unknown[]) => ({ items, next: "" });

const monthly = {
  name: "monthly",
  sheet: "counter-desk",
  image: "counter-desk",
  mode: "dates-if-changed",
  rule: "FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30",
  zone: "Europe/Paris",
  next_at: "2026-12-07T01:30:00Z",
  owner: "jonas",
  last: { at: "2026-11-02T01:30:00Z", build: 5, state: "ready", version: "2026.11.1" },
};

it("says what starts when, how long it takes, and what waits or is paused", async () => {
  service({
    "GET /api/v1/schedules": list(
      monthly,
      {
        ...monthly,
        name: "crew",
        mode: "changes",
        rule: "",
        waits: "build 7 goes on",
        last: { why: "no base" },
      },
      { ...monthly, name: "weekly", paused: "the quay is closed", paused_by: "mira", last: undefined },
    ),
    "GET /api/v1/calendar": list(
      { ...monthly, schedule: "monthly", at: "2026-12-07T01:30:00Z", takes_seconds: 9847.27 },
      { ...monthly, schedule: "weekly", at: "2026-12-07T05:00:00Z", mode: "dates" },
    ),
  });
  show(<CalendarPage />, "viewer");
  await screen.findByText("build 5");
  screen.getByText("waits: build 7 goes on");
  screen.getByText("none: no base");
  screen.getByText("paused by mira: the quay is closed");
  const rows = within(await screen.findByRole("table", { name: "Coming builds" })).getAllByRole("row");
  expect(rows[1]?.textContent).toContain("2026-12-07");
  expect(rows[1]?.textContent).toContain("if something has changed");
  expect(rows[1]?.textContent).toContain("about 2 h 44 min");
  expect(rows[2]?.textContent).not.toContain("2026-12-07"); // the same day
  expect(screen.queryByRole("button")).toBeNull();
});

it("a schedule is written down with its next dates in sight", async () => {
  const { asked } = service({
    "GET /api/v1/schedules": list(),
    "GET /api/v1/calendar": list(),
    "GET /api/v1/sheets": list({ name: "counter-desk" }),
    "POST /api/v1/schedules/dates": { dates: ["2026-12-07T01:30:00Z"] },
    "POST /api/v1/schedules": monthly,
  });
  show(<CalendarPage />, "operator");
  await screen.findByText(/No build starts by itself/);
  await userEvent.click(screen.getByRole("button", { name: "Start builds by themselves" }));
  const form = within(await screen.findByRole("dialog"));
  await form.findByText(/Next, in UTC: 2026-12-07 01:30/);
  await userEvent.type(form.getByLabelText(/^Name/), "monthly");
  await userEvent.selectOptions(form.getByLabelText(/^Sheet/), "counter-desk");
  await userEvent.click(form.getByRole("button", { name: "Start builds by themselves" }));
  await waitFor(() => expect(asked.map((a) => a.what)).toContain("POST /api/v1/schedules"));
  expect(asked.find((a) => a.what === "POST /api/v1/schedules")?.body).toMatchObject({
    name: "monthly",
    sheet: "counter-desk",
    mode: "dates-if-changed",
    rule: "FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30",
  });
});

it("a schedule is paused for a reason", async () => {
  const { asked } = service({
    "GET /api/v1/schedules": list(monthly),
    "GET /api/v1/calendar": list(),
    "POST /api/v1/schedules/monthly/pause": { ...monthly, paused: "closed" },
  });
  show(<CalendarPage />, "operator");
  await userEvent.click(await screen.findByRole("button", { name: "Pause" }));
  const form = within(await screen.findByRole("dialog"));
  await userEvent.type(form.getByRole("textbox"), "closed");
  await userEvent.click(form.getByRole("button", { name: "Pause" }));
  await waitFor(() =>
    expect(asked.find((a) => a.what === "POST /api/v1/schedules/monthly/pause")?.body).toEqual({
      reason: "closed",
    }),
  );
});

it("a rule that is wrong says why before it is written down", async () => {
  service({
    "GET /api/v1/schedules": list(),
    "GET /api/v1/calendar": list(),
    "GET /api/v1/sheets": list({ name: "counter-desk" }),
    "POST /api/v1/schedules/dates": new Refused(422, '"every monday" is no recurrence rule (RFC 5545)'),
  });
  show(<CalendarPage />, "operator");
  await userEvent.click(await screen.findByRole("button", { name: "Start builds by themselves" }));
  await within(await screen.findByRole("dialog")).findByText(/is no recurrence rule/);
});
