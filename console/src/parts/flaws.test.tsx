import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import type { Version } from "../api";
import { Refused, service, show } from "../testing";
import { FlawLists, Flaws, FlawsCompared } from "./flaws";

const version = { image: "counter-desk", number: "2026.11.3" } as Version;
const found = {
  id: "CVE-2026-1001",
  records: ["QUAY-31"],
  severity: "high" as const,
  score: 8.8,
  package: "tide",
  version: "2.8-4",
  software: ["libtide1 2.8-4", "tide-data 2.8-4"],
  fixed: "2.8-4+deb12u1",
  summary: "<b>tables</b> run programs",
  links: ["https://flaws.example/1"],
};
const perhaps = {
  id: "QUAY-40",
  severity: "unknown" as const,
  package: "quay-fax",
  version: "winter",
  software: ["quay-fax winter"],
  perhaps: 'version "winter" follows none of the usual rules',
};

it("shows a version's known flaws with where they are and what mends them", async () => {
  service({
    "GET /api/v1/images/counter-desk/versions/2026.11.3/flaws": {
      image: "counter-desk",
      number: "2026.11.3",
      serious: 1,
      not_checked: [{ ecosystem: "flatpak", software: 2, such_as: ["tides 1", "harbour 2"] }],
      items: [found, perhaps],
    },
  });
  show(<Flaws version={version} />);
  await screen.findByText("2 flaws, 1 serious");
  const rows = within(screen.getByRole("table", { name: "Known flaws" })).getAllByRole("row");
  for (const text of ["high", "8.8", "also QUAY-31", "2.8-4+deb12u1", "<b>tables</b> run programs"])
    within(rows[1]).getByText(text);
  expect(within(rows[1]).getByRole("link", { name: "CVE-2026-1001" }).getAttribute("href")).toBe(
    "https://flaws.example/1",
  );
  within(rows[2]).getByText(/It is perhaps not there: version "winter"/);
});

it("says what is not checked, and lets approvers accept that for the image", async () => {
  const user = userEvent.setup();
  const { asked } = service({
    "GET /api/v1/images/counter-desk/versions/2026.11.3/flaws": {
      serious: 0,
      items: [],
      not_checked: [
        { ecosystem: "flatpak", software: 2, such_as: ["tides 1", "harbour 2"] },
        { ecosystem: "folder", software: 1, such_as: ["quay-fax 7"] },
      ],
    },
    "GET /api/v1/images/counter-desk": { accepted_unchecked: { folder: "no network (tove)" } },
    "POST /api/v1/images/counter-desk/accept-unchecked": {},
  });
  show(<Flaws version={version} />, "approver");
  await screen.findByText("no network (tove)");
  screen.getByText("tides 1, harbour 2");
  screen.getByRole("button", { name: "Withdraw" });
  await user.click(screen.getByRole("button", { name: "Accept" }));
  const dialog = within(await screen.findByRole("dialog"));
  await user.type(dialog.getByRole("textbox"), "reviewed in house");
  await user.click(dialog.getByRole("button", { name: "Accept" }));
  await waitFor(() =>
    expect(asked.find((a) => a.what.startsWith("POST"))?.body).toMatchObject({
      ecosystem: "flatpak",
      reason: "reviewed in house",
      withdraw: false,
    }),
  );
});

it("says why it is not known, and that there are none", async () => {
  const at = "GET /api/v1/images/counter-desk/versions/2026.11.3/flaws";
  service({ [at]: { unknown: "no list of known flaws was loaded", serious: 0, items: [], not_checked: [] } });
  show(<Flaws version={version} />);
  await screen.findByText(/It is not known which it has: no list of known flaws was loaded/);
  service({ [at]: { serious: 0, items: [], not_checked: [] } });
  show(<Flaws version={version} />);
  await screen.findByText("No known vulnerabilities were found in the software that was checked.");
});

it("tells what a version mends and brings, or why that cannot be told", () => {
  show(
    <FlawsCompared
      image="counter-desk"
      of={{ mends: [found], brings: [perhaps], same: 2, not_checked: [] }}
    />,
  );
  screen.getByRole("table", { name: "Known flaws that it mends" });
  screen.getByRole("table", { name: "Known flaws that it brings" });
  expect(screen.getAllByText("2 flaws are in both")).toHaveLength(1);
  show(
    <FlawsCompared
      image="counter-desk"
      of={{ unknown: "no list was loaded", mends: [], brings: [], same: 0, not_checked: [] }}
    />,
  );
  screen.getByText("They are not compared: no list was loaded.");
});

it("loads a list, says what is wrong with one, and deletes one", async () => {
  const user = userEvent.setup();
  const { asked } = service({
    "GET /api/v1/flaw-lists": {
      items: [
        { name: "debian", records: 41203, digest: "", loaded_at: "2026-11-23T12:00:00Z", loaded_by: "jonas" },
      ],
      next: "",
    },
    "PUT /api/v1/flaw-lists/own": new Refused(422, "the flaw list cannot be taken, and nothing of it was", [
      "record 1: id is missing",
    ]),
    "DELETE /api/v1/flaw-lists/debian": {},
  });
  show(<FlawLists />);
  await screen.findByText("41203");
  await user.click(screen.getByRole("button", { name: "Load a list" }));
  const dialog = within(await screen.findByRole("dialog"));
  await user.type(dialog.getByLabelText(/Name/), "own");
  await user.upload(
    dialog.getByLabelText("File"),
    new File(["[{}]"], "flaws.json", { type: "application/json" }),
  );
  await user.click(dialog.getByRole("button", { name: "Load a list" }));
  await dialog.findByText("record 1: id is missing");
  await user.click(dialog.getByRole("button", { name: "Cancel" }));
  await user.click(screen.getByRole("button", { name: "Delete" }));
  const asking = within(await screen.findByRole("dialog", { name: /Delete flaw list debian/ }));
  await user.click(asking.getByRole("button", { name: "Delete" }));
  await expect.poll(() => asked.map((a) => a.what)).toContain("DELETE /api/v1/flaw-lists/debian");
});

it("lets whoever only looks load and delete nothing", async () => {
  service({ "GET /api/v1/flaw-lists": { items: [], next: "" } });
  show(<FlawLists />, "viewer");
  await screen.findByText(/No list was loaded/);
  expect(screen.queryByRole("button")).toBeNull();
});
