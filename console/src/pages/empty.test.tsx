import { screen, within } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import { Refused, service, show } from "../testing";
import { BuildMachinesPage } from "./build-machines";
import { BuildsPage } from "./builds";
import { HostsPage } from "./hosts";
import { ImagesPage } from "./images";
import { PoolsPage } from "./pools";
import { RolloversPage } from "./rollovers";
import { SitesPage } from "./sites";
import { TodayPage } from "./today";
import { TrailPage } from "./trail";

const list = (...items: unknown[]) => ({ items, next: "" });

const pages = [
  { what: "images", page: <ImagesPage />, path: "images", says: /There is no image yet/ },
  { what: "builds", page: <BuildsPage />, path: "builds", says: /Nothing was built yet/ },
  {
    what: "build machines",
    page: <BuildMachinesPage />,
    path: "build-machines",
    says: /No build machine is there/,
  },
  { what: "pools", page: <PoolsPage />, path: "pools", says: /There is no pool yet/ },
  { what: "hosts", page: <HostsPage />, path: "hosts", says: /No host is like that/ },
  { what: "rollovers", page: <RolloversPage />, path: "rollovers", says: /no rollover/i },
  { what: "sites", page: <SitesPage />, path: "sites", says: /no site/i },
  { what: "trail", page: <TrailPage />, path: "trail", says: /no entry|nothing|No entry/i },
  { what: "today", page: <TodayPage />, path: "today", says: /Nothing needs you now/ },
];

describe.each(pages)("the page of $what", ({ page, path, says }) => {
  it("says what it means that there is nothing", async () => {
    service({ "GET /api/v1/pools": list(), [`GET /api/v1/${path}`]: list() });
    show(page, "viewer");
    await screen.findByText(says);
  });
  it("says why it cannot show anything, and offers no act to those who only look", async () => {
    service({
      "GET /api/v1/pools": list(),
      [`GET /api/v1/${path}`]: new Refused(503, "the database does not answer; try again"),
    });
    show(page, "viewer");
    const alert = await screen.findByRole("alert");
    within(alert).getByText("the database does not answer; try again");
    expect(screen.queryByRole("link", { name: /Start a rollover/ })).toBeNull();
  });
});

it("today tells what is urgent by a word, and says what to type", async () => {
  service({
    "GET /api/v1/pools": list({
      name: "ticket-counters",
      states: { serving: 3, faulty: 1 },
      hosts: 4,
      sessions: 9,
      free: 3,
      drifting: 1,
      rollover: 7,
    }),
    "GET /api/v1/today": list(
      {
        kind: "faulty",
        urgent: true,
        title: "Host tc-001 of ticket-counters is faulty",
        detail: "its agent is silent",
        link: "hosts/tc-001",
        command: "pane host list --state faulty",
      },
      { kind: "drift", urgent: false, title: "1 host drifts", detail: "", link: "pools/ticket-counters" },
    ),
  });
  show(<TodayPage />, "viewer");
  const [urgent, other] = await screen.findAllByRole("listitem");
  within(urgent).getByLabelText("urgent");
  within(urgent).getByText("pane host list --state faulty");
  expect(
    within(urgent)
      .getByRole("link", { name: /tc-001/ })
      .getAttribute("href"),
  ).toBe("/hosts/tc-001");
  expect(within(other).queryByLabelText("urgent")).toBeNull();
  screen.getByText("of 4");
  screen.getByText("3 seats free");
  screen.getByText("in 1 pool");
});
