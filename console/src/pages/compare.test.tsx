import { cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import { Refused, service, show } from "../testing";
import { ComparePage } from "./compare";
import { SoftwarePage } from "./software";
import { VersionPage } from "./version";

const side = (number: string) => ({
  number,
  standing: ["live"],
  size_bytes: 2 ** 30,
  software: 232,
  build_seconds: 4200,
});

const change = (more: object) => ({ what: "updated", group: "rest", origin: "deb", name: "lib", ...more });

const comparison = {
  image: "counter-desk",
  from: side("2026.11.1"),
  to: side("2026.11.2"),
  same: 140,
  counts: [{ group: "rest", what: "updated", n: 30 }],
  changes: [
    change({ group: "applications", name: "Fare Desk", before: "6.1-1", after: "6.2-1" }),
    change({ group: "noticed", what: "changed", name: "quay-fax", why: "no rule orders it" }),
    change({ name: "tide", before: "1", after: "2", packages: ["libtide1", "tide-data"], security: true }),
    ...Array.from({ length: 30 }, (_, i) => change({ name: `lib-${i}<b>`, before: "1", after: "2" })),
  ],
  facts: [{ what: "kernel", before: "6.1.55", after: "6.1.76" }],
  settings: [],
  steps: [{ what: "Mail", after: "the package mail is installed" }],
  checks: [],
  flaws: {
    mends: [
      {
        id: "CVE-2026-1001",
        records: ["QUAY-31"],
        severity: "high",
        score: 8.8,
        package: "tide",
        version: "2.8-4",
        software: ["libtide1 2.8-4"],
        fixed: "2.8-4+deb12u1",
        summary: "<b>tables</b> run programs",
        links: ["https://flaws.example/1"],
      },
    ],
    brings: [],
    not_checked: [],
    same: 2,
  },
};

const versions = { items: [{ number: "2026.11.1" }, { number: "2026.11.2" }], next: "" };

it("a comparison is read group by group, narrowed, and linked to", async () => {
  const { asked } = service({
    "GET /api/v1/images/counter-desk/versions/2026.11.2/comparison": comparison,
    "GET /api/v1/images/counter-desk/versions": versions,
  });
  show(
    <ComparePage />,
    "viewer",
    "/images/counter-desk/compare/2026.11.2?with=2026.11.1&search=",
    "/images/:image/compare/:number",
  );
  const user = userEvent.setup();
  const applications = await screen.findByRole("table", { name: "Applications" });
  within(applications).getByText("Fare Desk");
  screen.getByText("no rule orders it");
  screen.getByText("libtide1, tide-data");
  screen.getByText("the package mail is installed");
  expect(asked[0]?.what).toContain("?from=2026.11.1");
  expect(screen.queryByText("lib-29<b>"), "it is not shown before somebody asks").toBeNull();
  await user.click(screen.getByRole("button", { name: "6 more lines" }));
  screen.getByText("lib-29<b>");
  await user.selectOptions(screen.getByLabelText("What happened"), "changed");
  expect(screen.queryByText("Fare Desk")).toBeNull();
  screen.getByText("quay-fax");
  await user.type(screen.getByLabelText("Find in what changed"), "nothing");
  await screen.findByText("Nothing that changed is like that.");
  expect(screen.getByRole("link", { name: "Download for a change ticket" })).toHaveProperty(
    "href",
    expect.stringContaining("/comparison/document?from=2026.11.1"),
  );
});

it("a comparison that cannot be made says which version lacks a list, and why", async () => {
  service({
    "GET /api/v1/images/counter-desk/versions/2026.11.2/comparison": new Refused(
      409,
      "counter-desk 2026.11.1 has no software list: it was captured before",
    ),
    "GET /api/v1/images/counter-desk/versions": versions,
  });
  show(<ComparePage />, "viewer", "/images/counter-desk/compare/2026.11.2", "/images/:image/compare/:number");
  await screen.findByText("counter-desk 2026.11.1 has no software list: it was captured before");
});

const entry = { origin: "deb", name: "libtide1", version: "2.8-4", source: "tide", security: true };

it("who still has something is answered with the pools and hosts", async () => {
  const { asked } = service({
    "GET /api/v1/flaw-lists": { items: [], next: "" },
    "GET /api/v1/software": {
      items: [
        {
          image: "counter-desk",
          number: "2026.11.1",
          has: [entry, entry],
          unordered: ["fares winter has no order"],
          tracks: ["live"],
          pinned: ["back-office"],
          pools: [{ pool: "back-office", hosts: ["bo-001", "bo-002"] }],
        },
      ],
      next: "",
    },
  });
  show(<SoftwarePage />, "viewer", "/software?name=tide&below=2.9");
  await screen.findByText("libtide1 2.8-4");
  screen.getByText("live, pin of back-office");
  screen.getByText(/2 hosts/);
  screen.getByText(/fares winter has no order/);
  expect(asked.find((a) => a.what.includes("/software"))?.what).toBe(
    "GET /api/v1/software?name=tide&below=2.9",
  );
  await userEvent.setup().click(screen.getByLabelText("Versions that are not in use, too"));
  await waitFor(() =>
    expect(asked.findLast((a) => a.what.includes("/software"))?.what).toContain("all=true"),
  );
});

const version = {
  image: "counter-desk",
  number: "2026.11.2",
  state: "sealed",
  standing: [],
  tags: [],
  copies: [],
  software: 2,
};
const at = "/api/v1/images/counter-desk/versions/2026.11.2";

it("a version's software is searched page by page, and its system shown", async () => {
  const listed = {
    entries: 2,
    taken_at: "2026-11-23T06:00:00Z",
    taken_by: "pane-agent 1",
    counts: [],
    next: "",
  };
  service({
    [`GET ${at}`]: version,
    [`GET ${at}/software`]: {
      ...listed,
      counts: [{ origin: "deb", n: 2 }],
      items: [entry, { origin: "folder", name: "quay-fax", path: "/opt/quay-fax" }],
    },
    [`GET ${at}/software?search=none`]: { ...listed, items: [] },
    [`GET ${at}/facts`]: {
      kernel: "6.1.0-13",
      services: ["ssh.service"],
      ports: [{ protocol: "tcp", address: "::", port: 22, program: "sshd" }],
      accounts: [{ name: "ida", signs: true }],
      disk: {
        size_bytes: 2 ** 32,
        used_bytes: 2 ** 31,
        folders: [{ path: "/usr/lib", size_bytes: 2 ** 30 }],
      },
    },
  });
  show(
    <VersionPage />,
    "viewer",
    "/images/counter-desk/versions/2026.11.2/software",
    "/images/:image/versions/:number/:tab?",
  );
  const user = userEvent.setup();
  await screen.findByText("libtide1");
  screen.getByText("security fix");
  screen.getByText(/listed by pane-agent 1/);
  await user.type(screen.getByLabelText("Name, source or text"), "none");
  await screen.findByText("Nothing in it is like that.");
  await user.click(screen.getByRole("tab", { name: "System" }));
  await screen.findByText("6.1.0-13");
  screen.getByText("2.0 GiB of 4.0 GiB");
});

it("a version without a list says why, and takes one that was made elsewhere", async () => {
  const { asked } = service({
    [`GET ${at}`]: { ...version, software: undefined, unlisted: "pane-agent 0.9 does not list it" },
    [`PUT ${at}/software/document`]: version,
  });
  show(
    <VersionPage />,
    "operator",
    "/images/counter-desk/versions/2026.11.2/software",
    "/images/:image/versions/:number/:tab?",
  );
  const user = userEvent.setup();
  await screen.findByText("It has no software list: pane-agent 0.9 does not list it.");
  await user.click(screen.getByRole("button", { name: "Bring a list" }));
  await user.upload(
    await screen.findByLabelText(/File/),
    new File(['{"bomFormat": "CycloneDX"}'], "list.json"),
  );
  await user.click(within(screen.getByRole("dialog")).getByRole("button", { name: "Bring a list" }));
  await waitFor(() =>
    expect(asked.find((a) => a.what.startsWith("PUT"))?.body).toEqual({ bomFormat: "CycloneDX" }),
  );
});

it("how a version was made is shown with what was signed, and with what is wrong", async () => {
  const provenance = {
    wrong: [] as string[],
    key_id: "1f".repeat(32),
    digest: `sha256:${"ab".repeat(32)}`,
    by_sheet: true,
    run: "build 3",
    from: [{ name: "base harbour-13", uri: "https://images.example/13.qcow2", sha256: "cd".repeat(32) }],
    brought: [{ name: "software list" }],
    told: { started_by: "jonas", sheet: { commit: "c0ffee" }, parameters: { queue: "office" } },
    did: {
      steps: [{ name: "Fares", does: "the package fare-desk is installed", sha256: "12".repeat(32) }],
      seal_checks: [
        { check: "leftovers", severity: "warns", evidence: "steps left /tmp/x", waived: "why not" },
      ],
    },
  };
  service({ [`GET ${at}`]: version, [`GET ${at}/provenance`]: provenance });
  show(
    <VersionPage />,
    "viewer",
    "/images/counter-desk/versions/2026.11.2/provenance",
    "/images/:image/versions/:number/:tab?",
  );
  await screen.findByText("base harbour-13");
  screen.getByText("queue = office");
  screen.getByText("the package fare-desk is installed");
  screen.getByText(/passed over: why not/);
  screen.getByRole("link", { name: "Download the keys" });
  cleanup();
  service({
    [`GET ${at}`]: version,
    [`GET ${at}/provenance`]: { ...provenance, wrong: ["the software list is not the one"] },
  });
  show(
    <VersionPage />,
    "viewer",
    "/images/counter-desk/versions/2026.11.2/provenance",
    "/images/:image/versions/:number/:tab?",
  );
  await screen.findByText("It is not to be trusted.");
  screen.getByText("the software list is not the one");
});
