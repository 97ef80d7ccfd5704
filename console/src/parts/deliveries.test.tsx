import { screen, within } from "@testing-library/react";
import { expect, it } from "vitest";
import type { Transfer } from "../api";
import { service, show } from "../testing";
import { allowedTo, came, Deliveries } from "./deliveries";

const GiB = 2 ** 30;
const transfer = {
  whole_bytes: 0,
  there_bytes: 0,
  shared_bytes: 0,
  lacking_bytes: 0,
  sent_bytes: 0,
  line_bytes: 0,
  rate: 0,
  asked_at: "2026-11-23T12:00:00Z",
};
const sending = {
  ...transfer,
  key: "deliver-copy-9-1",
  image: "counter-desk",
  number: "2026.11.3",
  ordinal: 1,
  site: "south-quay",
  line: "quay-link",
  state: "under way",
  stage: "sending",
  percent: 50,
  whole_bytes: 24 * GiB,
  there_bytes: 22.5 * GiB,
  lacking_bytes: 1.5 * GiB,
  sent_bytes: GiB,
  line_bytes: GiB / 2,
  rate: 2 ** 20,
  left_seconds: 256,
};
const waiting = {
  ...transfer,
  key: "deliver-copy-10-1",
  image: "counter-desk",
  number: "2026.11.3",
  ordinal: 2,
  site: "south-quay",
  state: "waiting",
  percent: 0,
  why: "it waits for another copy that comes to the site, which it is made from",
};
const base = {
  ...sending,
  key: "deliver-base-1",
  image: undefined,
  number: undefined,
  ordinal: undefined,
  base: "harbour-13",
  stage: "gathering",
  lacking_bytes: 0,
  left_seconds: 18_000,
};

it("shows what is sent of a disk, how fast, and what waits for what", async () => {
  const { asked } = service({ "GET /api/v1/deliveries": { items: [base, waiting, sending], next: "" } });
  show(<Deliveries of={{ site: "south-quay" }} />);
  const rows = within(await screen.findByRole("table", { name: "Deliveries" })).getAllByRole("row");
  expect(asked[0].what).toBe("GET /api/v1/deliveries?site=south-quay&limit=200");
  expect(rows).toHaveLength(4);
  for (const text of ["base harbour-13", "gathering", "of 24.0 GiB", "5 h 00 min"])
    within(rows[1]).getByText(text);
  within(rows[2]).getByText("waiting");
  within(rows[2]).getByText(/it waits for another copy/);
  expect(within(rows[2]).queryByRole("progressbar")).toBeNull();
  for (const text of [
    "sending",
    "over quay-link",
    "1.0 GiB of 1.5 GiB (6% of it)",
    "4 min 16 s",
    "1 MiB a second",
  ])
    within(rows[3]).getByText(text);
  expect(within(rows[3]).getByRole("progressbar").getAttribute("aria-valuenow")).toMatch(/^66/);
  expect(within(rows[3]).getByRole("link", { name: "counter-desk 2026.11.3" }).getAttribute("href")).toBe(
    "/images/counter-desk/versions/2026.11.3/copies",
  );
});

it("says that nothing is under way, or nothing at all where others are looked for", async () => {
  service({ "GET /api/v1/deliveries": { items: [], next: "" } });
  show(
    <>
      <Deliveries of={{ image: "counter-desk" }} quiet />
      <Deliveries of={{ site: "south-quay" }} />
    </>,
  );
  await screen.findByText("Nothing is under way.");
  expect(screen.getAllByRole("heading", { name: "Deliveries" })).toHaveLength(1);
});

it("says how a copy came", () => {
  expect(came(undefined)).toBe("");
  expect(came(transfer as Transfer)).toBe("");
  expect(came({ ...transfer, whole_bytes: 24 * GiB } as Transfer)).toBe(
    "from the site itself, nothing of 24.0 GiB sent",
  );
  expect(came(sending as unknown as Transfer)).toBe(
    "1.0 GiB sent so far of 1.5 GiB that lack, of a disk of 24.0 GiB",
  );
  expect(came({ ...sending, sent_bytes: sending.lacking_bytes } as unknown as Transfer)).toBe(
    "1.5 GiB of 24.0 GiB sent, 512 MiB over the line",
  );
});

it("says what may go to a site", () => {
  expect(allowedTo({})).toBe("as much as goes");
  expect(
    allowedTo({
      line: "quay-link",
      delivery_rate: "8MiB",
      delivery_hours: [
        { from: "20:00", to: "6:00", rate: "40MiB", time_zone: "Europe/Lisbon" },
        { from: "2:00", to: "4:00", rate: "unlimited" },
      ],
    }),
  ).toBe(
    "8MiB a second; 20:00 to 6:00 Europe/Lisbon 40MiB a second; 2:00 to 4:00 UTC as much as goes, over line quay-link",
  );
});
