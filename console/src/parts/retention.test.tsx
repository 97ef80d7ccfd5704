import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import { Refused, service, show } from "../testing";
import { Retention } from "./retention";

const path = "/api/v1/images/counter-desk/retention";
const newest = {
  number: "2026.11.3",
  goes: false,
  why: ["track live names it"],
  sites: ["north-quay"],
  bytes: 2 ** 31,
  frees_bytes: 2 ** 29,
  spare: 2,
};
const oldest = {
  number: "2026.08.1",
  goes: false,
  why: ["no rule has it retired"],
  sites: [],
  bytes: 2 ** 30,
};
const everything = {
  rule: { keep: 0, days: 0, tagged: null },
  says: "everything",
  set: true,
  versions: [newest, oldest],
  retires: [],
  frees_bytes: 0,
};
const tried = {
  rule: { keep: 1, days: 60, tagged: ["release", "audit"] },
  says: "the newest 1, what is younger than 60 days, what is tagged release or audit",
  set: false,
  versions: [newest, { ...oldest, goes: true, why: [] }],
  retires: ["2026.08.1"],
  frees_bytes: 2 ** 30,
};

it("sets a rule only after it has shown what goes by it", async () => {
  const user = userEvent.setup();
  const { asked } = service({
    [`GET ${path}`]: everything,
    [`GET ${path}?keep=1&days=60&tagged=release,audit`]: tried,
    [`PUT ${path}`]: { ...tried, set: true },
  });
  show(<Retention image="counter-desk" />);
  await screen.findByText(/It keeps everything/);
  await user.type(screen.getByLabelText(/Keep the newest/), "1");
  await user.type(screen.getByLabelText(/younger than/), "60");
  await user.type(screen.getByLabelText(/tagged/), "release, audit");
  await user.click(screen.getByRole("button", { name: "Show what goes" }));
  await screen.findByText(/1 version would be retired now, which gives back 1.0 GiB with the copies/);
  const rows = within(screen.getByRole("table", { name: "What the rule would do" })).getAllByRole("row");
  within(rows[1]).getByText("kept");
  within(rows[1]).getByText("2 copies fewer");
  within(rows[2]).getByText("retired");
  expect(asked.some((a) => a.what.startsWith("PUT"))).toBe(false);

  // Another rule has to be shown again.
  await user.type(screen.getByLabelText(/younger than/), "0");
  expect(screen.queryByText(/would be retired/)).toBeNull();
  await user.clear(screen.getByLabelText(/younger than/));
  await user.type(screen.getByLabelText(/younger than/), "60");
  await user.click(screen.getByRole("button", { name: "Show what goes" }));
  await user.click(await screen.findByRole("button", { name: "Retire these, and go on by it" }));
  const dialog = await screen.findByRole("dialog");
  within(dialog).getByText(/2026.08.1 are deleted, which cannot be undone/);
  await user.click(within(dialog).getByRole("button", { name: "Retire these, and go on by it" }));
  await screen.findByText("Show what goes");
  expect(asked.find((a) => a.what.startsWith("PUT"))?.body).toEqual({
    keep: 1,
    days: 60,
    tagged: ["release", "audit"],
    retires: ["2026.08.1"],
  });
});

it("says what is wrong with a rule, and lets people keep everything again", async () => {
  const user = userEvent.setup();
  const { asked } = service({
    [`GET ${path}`]: { ...everything, rule: { keep: 2, days: 0, tagged: null }, says: "the newest 2" },
    [`GET ${path}?keep=2&days=0&tagged=a,a`]: new Refused(422, "the rule cannot be so", [
      'tagged: "a" is there twice',
    ]),
    [`PUT ${path}`]: everything,
  });
  show(<Retention image="counter-desk" />);
  await user.type(await screen.findByLabelText(/tagged/), "a, a");
  await user.click(screen.getByRole("button", { name: "Show what goes" }));
  await screen.findByText('tagged: "a" is there twice');
  await user.click(screen.getByRole("button", { name: "Keep everything" }));
  await user.click(
    within(await screen.findByRole("dialog")).getByRole("button", { name: "Keep everything" }),
  );
  await screen.findByText("Show what goes");
  expect(asked.find((a) => a.what.startsWith("PUT"))?.body).toEqual({ keep: 0 });
});

it("lets only those change it who may", async () => {
  service({ [`GET ${path}`]: everything });
  show(<Retention image="counter-desk" />, "viewer");
  await screen.findByText(/It keeps everything/);
  expect(screen.queryByRole("button", { name: "Show what goes" })).toBeNull();
});
