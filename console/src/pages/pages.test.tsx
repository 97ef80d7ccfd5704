import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { Refused, service, show } from "../testing";
import { AccountsPage } from "./accounts";
import { EstatePage } from "./estate";
import { HostsPage } from "./hosts";
import { ImagePage } from "./image";
import { PeoplePage } from "./people";
import { RolloverPage } from "./rollover";
import { RolloversPage } from "./rollovers";
import { TokensPage } from "./tokens";
import { VersionPage } from "./version";

const list = (...items: unknown[]) => ({ items, next: "" });

const host = {
  name: "tc-001",
  pool: "ticket-counters",
  site: "north-quay",
  image: "counter-desk",
  state: "faulty",
  since: "2026-11-23T06:00:00Z",
  why: "its agent is silent",
  drained_by: "",
  version: "2026.11.1",
  target: "2026.11.2",
  drifts: true,
  seats: 4,
  sessions: 2,
  load: 0,
  stamp: "",
  checks_why: "",
};

const version = {
  image: "counter-desk",
  number: "2026.11.2",
  state: "sealed",
  standing: ["live"],
  progress: 100,
  digest: `sha256:${"ab".repeat(32)}`,
  size_bytes: 24 * 2 ** 30,
  source: "north-quay/bm-counter",
  notes: "December fixes",
  tags: ["winter"],
  captured_by: "jonas",
  created_at: "2026-11-23T06:00:00Z",
  failure: "",
  barred: "",
  barred_by: "",
  hosts: 8,
  copies: [{ site: "north-quay", ordinal: 1, state: "failed", progress: 0, failure: "its storage is full" }],
  revision: 3,
};

const image = {
  name: "counter-desk",
  title: "Ticket counters",
  numbering: "calendar",
  machine_class: "standard",
  testers: 2,
  soak: "24h",
  copies: 2,
  tracks: [
    { name: "pilot", version: "2026.11.2" },
    { name: "live", version: "2026.11.2" },
  ],
  fallback: "2026.11.1",
  versions: 2,
  next_number: "2026.11.3",
  revision: 1,
};

describe("lists", () => {
  it("of hosts are narrowed by what the address says, and say so when nothing is like that", async () => {
    const { asked } = service({
      "GET /api/v1/pools": list(),
      "GET /api/v1/hosts": (r: Request) =>
        new URL(r.url).searchParams.get("find") === "zz" ? list() : list(host),
    });
    const { router } = show(<HostsPage />, "viewer", "/hosts?state=faulty");
    await screen.findByRole("link", { name: "tc-001" });
    expect(
      asked.some((a) => a.what.startsWith("GET /api/v1/hosts?") && a.what.includes("state=faulty")),
    ).toBe(true);
    screen.getByText("2026.11.2, drifts");
    await userEvent.setup().type(screen.getByRole("searchbox"), "zz");
    await screen.findByText("No host is like that.");
    expect(router.state.location.search).toBe("?state=faulty&find=zz");
  });
  it("go on where somebody asks for more", async () => {
    service({
      "GET /api/v1/pools": list(),
      "GET /api/v1/sessions": (r: Request) => {
        const more = new URL(r.url).searchParams.get("cursor");
        const of = (person: string) => ({
          host: "tc-001",
          host_state: "serving",
          pool: "p",
          site: "s",
          key: person,
          person,
          state: "active",
          since: "2026-11-23T06:00:00Z",
        });
        return more ? list(of("Tove Dyke")) : { items: [of("Ida Strand")], next: "c" };
      },
    });
    show(<PeoplePage />, "viewer");
    await screen.findByText("Ida Strand");
    expect(screen.queryByRole("button", { name: "Sign off" })).toBeNull();
    await userEvent.setup().click(screen.getByRole("button", { name: "Show more people" }));
    await screen.findByText("Tove Dyke");
    screen.getByText("Ida Strand");
  });
  it("say what went wrong", async () => {
    service({
      "GET /api/v1/rollovers": new Refused(403, "the token is for pools tea-room only", [
        "ask an administrator",
      ]),
    });
    show(<RolloversPage />);
    const alert = await screen.findByRole("alert");
    within(alert).getByText("the token is for pools tea-room only");
    within(alert).getByText("ask an administrator");
  });
});

describe("a version", () => {
  it("has a page with its copies and its log", async () => {
    service({
      "GET /api/v1/images/counter-desk/versions/2026.11.2": version,
      "GET /api/v1/trail": list({
        seq: 9,
        at: "2026-11-23T06:00:00Z",
        actor: "tove",
        verb: "version.activate",
        subject: "version counter-desk 2026.11.2",
        scope: "",
        reason: "Monday",
      }),
    });
    show(
      <VersionPage />,
      "operator",
      "/images/counter-desk/versions/2026.11.2/no-such-tab",
      "/images/:image/versions/:number/:tab?",
    );
    await screen.findByText("version.activate");
    screen.getByText("December fixes");
    await userEvent.setup().click(screen.getByRole("tab", { name: "Copies" }));
    await screen.findByText("its storage is full");
    screen.getByRole("button", { name: "Deliver again" });
    expect(screen.queryByRole("button", { name: "Bar" }), "that takes an approver").toBeNull();
  });
  it("is edited from the revision that was seen", async () => {
    let match: string | null = null;
    const { asked } = service({
      "GET /api/v1/images/counter-desk/versions/2026.11.2": version,
      "GET /api/v1/trail": list(),
      "PATCH /api/v1/images/counter-desk/versions/2026.11.2": (r: Request) => {
        match = r.headers.get("If-Match");
        return version;
      },
    });
    show(
      <VersionPage />,
      "operator",
      "/images/counter-desk/versions/2026.11.2",
      "/images/:image/versions/:number",
    );
    const user = userEvent.setup();
    await user.click(await screen.findByRole("button", { name: "Edit" }));
    const tags = await screen.findByLabelText("Tags, with commas between");
    await user.clear(tags);
    await user.type(tags, "winter, ,spring ");
    await user.click(within(screen.getByRole("dialog")).getByRole("button", { name: "Edit" }));
    await waitFor(() => expect(match).toBe('"3"'));
    expect(asked.find((a) => a.what.startsWith("PATCH"))?.body).toEqual({
      notes: "December fixes",
      tags: ["winter", "spring"],
      clear_end_of_life: true,
    });
  });
});

it("rolling back names the version that it goes to, and the one that it leaves", async () => {
  const { asked } = service({
    "GET /api/v1/images/counter-desk": image,
    "GET /api/v1/images/counter-desk/versions": list(version),
    "GET /api/v1/images/counter-desk/moves": list(
      { track: "live", kind: "advance", version: "2026.11.2" },
      { track: "live", kind: "advance", version: "2026.11.1" },
      { track: "live", kind: "advance", version: "2026.10.4" },
      { track: "pilot", kind: "advance", version: "2026.10.9" },
    ),
    "GET /api/v1/rollovers/defaults?act=rollback": {
      batch: "25%",
      floor: "10%",
      log_off: "warn",
      grace: "5m",
    },
    "GET /api/v1/sites": list(),
    "POST /api/v1/previews": {
      will: ["live of counter-desk goes back."],
      leaves: "2026.11.2",
      refused: "",
      reasons: [],
    },
    "POST /api/v1/images/counter-desk/rollback": {
      from: "2026.11.2",
      to: "2026.10.4",
      tracks: ["live"],
      rollovers: [],
    },
  });
  show(<ImagePage />, "approver", "/images/counter-desk", "/images/:image");
  const user = userEvent.setup();
  await user.click(await screen.findByRole("button", { name: "Roll back" }));
  const dialog = await screen.findByRole("dialog");
  const choice = within(dialog).getByRole("combobox", { name: "Back to" });
  await waitFor(() =>
    expect(
      within(choice)
        .getAllByRole("option")
        .map((o) => o.textContent),
    ).toEqual(["2026.11.1, the fallback", "2026.10.4, live before"]),
  );
  await user.selectOptions(choice, "2026.10.4");
  await user.type(within(dialog).getByLabelText(/^Reason/), "tickets do not print");
  await user.type(await within(dialog).findByPlaceholderText("5m"), "2m");
  await within(dialog).findByText("live of counter-desk goes back.");
  await user.click(within(dialog).getByRole("button", { name: "Roll back" }));
  await waitFor(() =>
    expect(asked.find((a) => a.what.startsWith("POST /api/v1/images"))?.body).toEqual({
      reason: "tickets do not print",
      to: "2026.10.4",
      leaves: "2026.11.2",
      keep_usable: false,
      track_only: false,
      options: { grace: "2m" },
    }),
  );
});

describe("the estate file", () => {
  it("is checked before it is loaded", async () => {
    const { asked } = service({
      "GET /api/v1/estate": "pools: []\n",
      "PUT /api/v1/estate?dry_run=true": { changes: ["pool tea-room: new"] },
      "PUT /api/v1/estate?dry_run=false": { changes: ["pool tea-room: new"] },
    });
    show(<EstatePage />, "administrator");
    const user = userEvent.setup();
    const text = await screen.findByRole("textbox", { name: "Estate file" });
    expect(screen.getByRole("button", { name: "Load" }).hasAttribute("disabled")).toBe(true);
    await user.type(text, "# more");
    await user.click(screen.getByRole("button", { name: "Check" }));
    await screen.findByText("pool tea-room: new");
    await user.type(text, "!");
    expect(screen.queryByText("pool tea-room: new"), "what was checked is another text").toBeNull();
    await user.click(screen.getByRole("button", { name: "Check" }));
    await screen.findByText("pool tea-room: new");
    await user.click(screen.getByRole("button", { name: "Load" }));
    await waitFor(() =>
      expect(
        asked.at(-1)?.what.includes("estate") || asked.some((a) => a.what.endsWith("dry_run=false")),
      ).toBe(true),
    );
    expect(asked.find((a) => a.what.endsWith("dry_run=false"))?.body).toBe("pools: []\n# more!");
  });
  it("says all that is wrong with it", async () => {
    service({
      "GET /api/v1/estate": "pools: []\n",
      "PUT /api/v1/estate": new Refused(422, "the estate file has 2 problems", [
        "line 3: hosts: use 1 to 100000",
        "line 4: image: there is no image",
      ]),
    });
    show(<EstatePage />, "administrator");
    await userEvent.setup().click(await screen.findByRole("button", { name: "Check" }));
    await screen.findByText("line 3: hosts: use 1 to 100000");
    screen.getByText("line 4: image: there is no image");
    expect(screen.getByRole("button", { name: "Load" }).hasAttribute("disabled")).toBe(true);
  });
  it("is only read by others", async () => {
    service({ "GET /api/v1/estate": "pools: []\n" });
    show(<EstatePage />, "approver");
    await screen.findByText(/pools: \[\]/);
    expect(screen.queryByRole("textbox")).toBeNull();
  });
});

describe("accounts", () => {
  const jonas = {
    name: "jonas",
    title: "Jonas Lock",
    role: "administrator",
    disabled: false,
    created_at: "2026-11-01T08:00:00Z",
  };
  const wilma = { ...jonas, name: "wilma", title: "Wilma Gangway", role: "operator" };
  it("are edited by what has changed only, and nobody changes their own role", async () => {
    const { asked } = service({
      "GET /api/v1/accounts": list(jonas, wilma),
      "PATCH /api/v1/accounts/wilma": wilma,
    });
    show(<AccountsPage />, "administrator");
    const user = userEvent.setup();
    const rows = await screen.findAllByRole("button", { name: "Edit" });
    await user.click(rows[0]);
    expect(within(await screen.findByRole("dialog")).queryByRole("combobox")).toBeNull();
    await user.click(screen.getByRole("button", { name: "Cancel" }));
    await user.click(rows[1]);
    const dialog = await screen.findByRole("dialog", { name: "Edit wilma" });
    await user.selectOptions(within(dialog).getByRole("combobox"), "approver");
    await user.click(within(dialog).getByRole("button", { name: "Save" }));
    await waitFor(() =>
      expect(asked.find((a) => a.what.startsWith("PATCH"))?.body).toEqual({ role: "approver" }),
    );
  });
  it("are not for others", async () => {
    const { asked } = service({});
    show(<AccountsPage />, "approver");
    await screen.findByText("Accounts are seen by administrators only.");
    expect(asked).toEqual([]);
  });
});

it("a token's secret is shown once", async () => {
  const token = {
    id: 4,
    account: "jonas",
    name: "pipeline",
    pools: ["ticket-pilot"],
    images: [],
    made_by: 0,
    created_at: "2026-11-01T08:00:00Z",
    expires_at: "2027-01-30T08:00:00Z",
  };
  let made = false;
  const { asked } = service({
    "GET /api/v1/tokens": () => (made ? list(token) : list()),
    "GET /api/v1/pools": list({ name: "ticket-pilot" }),
    "GET /api/v1/images": list(),
    "POST /api/v1/tokens": () => {
      made = true;
      return { ...token, secret: "np_once" };
    },
  });
  show(<TokensPage />);
  const user = userEvent.setup();
  await screen.findByText("You have no token.");
  await user.click(screen.getByRole("button", { name: "Make a token" }));
  const dialog = await screen.findByRole("dialog");
  await user.type(within(dialog).getByLabelText(/^Name/), "pipeline");
  expect(within(dialog).queryByRole("option", { name: "approver" }), "more than its maker may").toBeNull();
  await user.click(await within(dialog).findByText("pool ticket-pilot"));
  await user.click(within(dialog).getByRole("button", { name: "Make it" }));
  await screen.findByText("np_once");
  expect(asked.find((a) => a.what === "POST /api/v1/tokens")?.body).toEqual({
    name: "pipeline",
    days: 90,
    pools: ["ticket-pilot"],
    images: [],
  });
  await user.click(screen.getByRole("button", { name: "I have it" }));
  expect(screen.queryByText("np_once")).toBeNull();
  await screen.findByText("pipeline");
});

it("an address that is no rollover's says what is wrong", async () => {
  service({});
  show(<RolloverPage />, "viewer", "/rollovers/NaN", "/rollovers/:id");
  await screen.findByText(/“NaN” is not the number of a rollover/);
});
