import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import { Refused, service, show } from "../testing";
import { SheetPage } from "./sheet";
import { SheetsPage } from "./sheets";

const text = `# How the counters get their desk.
image: counter-desk
base: {track: live}
machine: {site: north-quay}
steps:
  # The program that sells tickets.
  - name: Fare Desk
    install: {packages: [fare-desk]}
  - name: Fares
    put: {file: fares.db, to: /var/lib/fares.db}
`;
const sheet = {
  name: "counter-desk",
  image: "counter-desk",
  steps: 2,
  problems: 0,
  revision: 3,
  changed_by: "jonas",
  changed_at: "2026-11-23T12:00:00Z",
  text,
  files: { "fares.db": "2".repeat(64) },
  wrong: [],
  unset: [],
  missing: [],
  explain: ["1. Fare Desk: the package fare-desk is installed."],
  names: [{ path: "fares.db", folder: false }],
  wants: [{ name: "queue", type: "text", value: "", given: false, allowed: ["office", "counter"] }],
};
/** SHA-256 of "tides". */
const tides = "0e714fd92f7538e3531b61c0eeb7f9c70e44475be7557df873b13df3af34225f";
const answers = {
  "GET /api/v1/sheets/counter-desk": sheet,
  "POST /api/v1/sheets/check": sheet,
  "GET /api/v1/images": { items: [{ name: "counter-desk", tracks: [] }], next: "" },
  "GET /api/v1/sites": { items: [{ name: "north-quay" }], next: "" },
  "GET /api/v1/ready-steps": {
    items: [
      { name: "proxy", about: "a proxy", own: false, text: "parameters: {address: {about: the proxy}}" },
    ],
    next: "",
  },
  "GET /api/v1/build-machines": {
    items: [
      { id: 1, name: "bm-new", site: "north-quay", state: "running" },
      { id: 2, name: "build-3", site: "north-quay", state: "running", build: 3 },
    ],
    next: "",
  },
};
const page = () => show(<SheetPage />, "operator", "/sheets/counter-desk", "/sheets/:sheet");
const saved = (asked: { what: string; body: unknown }[]) =>
  (asked.filter((a) => a.what.startsWith("PUT /api/v1/sheets/")).at(-1)?.body as { text: string })?.text;

it("changes a sheet by a form, and leaves the comments in it", async () => {
  const { asked } = service({
    ...answers,
    "PUT /api/v1/sheets/counter-desk": { ...sheet, revision: 4 },
  });
  page();
  const user = userEvent.setup();
  await user.click(await screen.findByRole("button", { name: "Change Fare Desk" }));
  const packages = screen.getByRole("textbox", { name: "Packages" });
  await user.type(packages, "\ntide-tables");
  await user.tab();
  await user.click(screen.getByRole("button", { name: "Switch off Fares" }));
  await user.selectOptions(screen.getByRole("combobox", { name: "Add a step" }), "proxy");
  await user.type(screen.getByRole("textbox", { name: "the proxy" }), "http://proxy:3128{Tab}");
  await user.click(screen.getByRole("button", { name: "Save" }));
  await waitFor(() => expect(saved(asked)).toBeDefined());
  expect(saved(asked)).toBe(
    text
      .replace("[fare-desk]", "[fare-desk, tide-tables]")
      .replace("to: /var/lib/fares.db}\n", "to: /var/lib/fares.db}\n    off: true\n") +
      "  - name: proxy\n    ready:\n      step: proxy\n      with:\n        address: http://proxy:3128\n",
  );
  await screen.findByText(/Revision 4/);
});

it("keeps what was written when somebody else has saved", async () => {
  const theirs = { ...sheet, revision: 4, changed_by: "tove", text: `${text}time-limit: 2h\n` };
  let now: typeof sheet = sheet;
  const { asked } = service({
    ...answers,
    "GET /api/v1/sheets/counter-desk": () => now,
    "PUT /api/v1/sheets/counter-desk": (request: Request) =>
      request.headers.get("If-Match") === '"4"'
        ? { ...sheet, revision: 5 }
        : new Refused(
            412,
            "sheet counter-desk was changed by tove since you read it",
            [],
            "changed-since-read",
          ),
  });
  page();
  const user = userEvent.setup();
  await user.click(await screen.findByRole("button", { name: "Take away Fares" }));
  now = theirs;
  await user.click(screen.getByRole("button", { name: "Save" }));
  await screen.findByText("tove has changed this sheet meanwhile");
  screen.getByText(/time-limit: 2h/);
  await user.click(screen.getByRole("button", { name: "Save mine over it" }));
  await screen.findByText(/Revision 5/);
  expect(saved(asked)).not.toContain("Fares");
  expect(asked.filter((a) => a.what.startsWith("PUT /api/v1/sheets/"))).toHaveLength(2);
});

it("starts a build with what it wants to know, and tries a step", async () => {
  const tries: unknown[] = [];
  const { asked } = service({
    ...answers,
    "POST /api/v1/sheets/counter-desk/builds": { id: 9 },
    "POST /api/v1/sites/north-quay/build-machines/bm-new/tries": () => {
      tries.push({
        step: "Fare Desk",
        kind: "install",
        state: "done",
        output: "Setting up fare-desk",
        exit_code: 0,
      });
      return { id: 1 };
    },
    "GET /api/v1/sites/north-quay/build-machines/bm-new/tries": () => ({ items: tries, next: "" }),
  });
  page();
  const user = userEvent.setup();
  await user.click(await screen.findByRole("button", { name: "Change Fare Desk" }));
  const on = await screen.findByRole("combobox", { name: "Try this step on" });
  await within(on).findByRole("option", { name: "bm-new at north-quay" });
  expect(within(on).queryByText(/build-3/)).toBeNull();
  await user.selectOptions(on, "north-quay/bm-new");
  await user.selectOptions(screen.getByRole("combobox", { name: "queue" }), "office");
  await user.click(screen.getByRole("button", { name: "Try" }));
  await screen.findByText("Setting up fare-desk");
  await user.click(screen.getByRole("button", { name: "Start a build" }));
  const dialog = await screen.findByRole("dialog");
  await user.selectOptions(within(dialog).getByRole("combobox", { name: "queue" }), "counter");
  await user.click(within(dialog).getByRole("button", { name: "Start a build" }));
  await screen.findByText("elsewhere");
  expect(asked.find((a) => a.what === "POST /api/v1/sheets/counter-desk/builds")?.body).toEqual({
    values: { queue: "counter" },
    hold_seconds: 0,
  });
});

it("sends a file in pieces, and says what is missing", async () => {
  let have = 0;
  const { asked } = service({
    ...answers,
    "GET /api/v1/sheets/counter-desk": { ...sheet, files: {} },
    "POST /api/v1/sheets/check": { ...sheet, missing: ["the file fares.db was not sent along"] },
    [`PUT /api/v1/sheet-files/${tides}?folder=false`]: () => ({ have, whole: have === 5 }),
    [`PUT /api/v1/sheet-files/${tides}/piece?folder=false&from=0`]: () => {
      have = 5;
      return { have, whole: true };
    },
  });
  page();
  const user = userEvent.setup();
  await screen.findByText("the file fares.db was not sent along");
  await user.upload(screen.getByLabelText("What is fares.db"), new File(["tides"], "fares.db"));
  await screen.findByText(tides.slice(0, 12));
  expect(asked.filter((a) => a.what.includes("/piece"))).toHaveLength(1);
  expect(screen.getByRole("button", { name: "Save" }).hasAttribute("disabled")).toBe(false);
});

it("lists the sheets, and says which are wrong", async () => {
  service({
    "GET /api/v1/sheets": {
      items: [sheet, { ...sheet, name: "crew-desk", problems: 3, build: 7, build_state: "failed" }],
      next: "",
    },
  });
  show(<SheetsPage />);
  await screen.findByText("wrong in 3 places");
  expect(screen.getByRole("link", { name: "7" }).getAttribute("href")).toBe("/builds/7");
});

const followed = {
  ...sheet,
  commit: "d".repeat(40),
  repository: {
    address: "https://git.ferries.example/desks.git",
    branch: "main",
    folder: "counter",
    file: "desk.yaml",
    announced: true,
    every_seconds: 300,
    seen_at: "2026-11-23T12:00:00Z",
    added_by: "jonas",
  },
};

it("a sheet that lives in a repository is only read here, and says what was seen there", async () => {
  const { asked } = service({
    ...answers,
    "GET /api/v1/sheets/counter-desk": {
      ...followed,
      repository: { ...followed.repository, why: "commit abc has no file counter/desk.yaml", gone: true },
    },
    "POST /api/v1/sheets/counter-desk/look": {},
    "DELETE /api/v1/sheets/counter-desk/repository": {},
  });
  page();
  await screen.findByText("It cannot be taken from its repository");
  screen.getByText("commit abc has no file counter/desk.yaml");
  screen.getByText("none is started until that is mended");
  screen.getByText("branch main");
  screen.getByText("counter/desk.yaml");
  expect(screen.queryByRole("button", { name: "Save" })).toBeNull();
  expect(screen.queryByRole("button", { name: "Change Fare Desk" })).toBeNull();
  for (const name of ["Look now", "Follow it no more"]) {
    await userEvent.click(screen.getByRole("button", { name }));
    await userEvent.click(within(await screen.findByRole("dialog")).getByRole("button", { name }));
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  }
  expect(asked.some((a) => a.what.endsWith("/look"))).toBe(true);
  expect(asked.some((a) => a.what.startsWith("DELETE"))).toBe(true);
});

it("a sheet is had to follow one in a repository, with secrets by their names only", async () => {
  const { asked } = service({
    "GET /api/v1/sheets": { items: [], next: "" },
    "PUT /api/v1/sheets/counter-desk/repository": followed,
  });
  const { router } = show(<SheetsPage />, "operator");
  await userEvent.click(await screen.findByRole("button", { name: "From a repository" }));
  const form = within(await screen.findByRole("dialog"));
  const said = {
    Name: "counter-desk",
    Repository: followed.repository.address,
    Branch: "main",
    Folder: "counter",
    File: "desk.yaml",
    "Secret with the password or token": "token",
    "Secret that announcements of pushes are signed with": "env:HOOK",
  };
  for (const [label, value] of Object.entries(said))
    await userEvent.type(form.getByLabelText(new RegExp(`^${label}`)), value);
  await userEvent.click(form.getByRole("button", { name: "From a repository" }));
  await waitFor(() => expect(router.state.location.pathname).toBe("/sheets/counter-desk"));
  expect(asked.find((a) => a.what.startsWith("PUT"))?.body).toEqual({
    address: followed.repository.address,
    branch: "main",
    folder: "counter",
    file: "desk.yaml",
    password: { file: "token" },
    announced: { environment: "HOOK" },
  });
});
