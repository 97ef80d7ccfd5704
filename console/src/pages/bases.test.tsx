import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, it } from "vitest";
import { service, show } from "../testing";
import { BasePage } from "./base";
import { BasesPage } from "./bases";
import { FeedPage } from "./feed";

const list = (...items: unknown[]) => ({ items, next: "" });

const base = {
  id: 1,
  name: "harbour-13",
  state: "ready",
  labels: { publisher: "Estuary Works", product: "Harbour Linux", release: "13" },
  file: "harbour-13.vmdk",
  size: 135_680,
  have: 135_680,
  progress: 100,
  format: "vmdk",
  bytes: 1 << 20,
  facts: { disk_size: 16 << 20, firmware: ["bios"], edition: "Harbour Linux 13 (Estuary)" },
  copies: [{ site: "north-quay", state: "present", progress: 100 }],
  added_by: "jonas",
  added_at: "2026-11-23T12:00:00Z",
};

const coming = {
  ...base,
  name: "harbour-14",
  state: "receiving",
  file: "harbour-14.qcow2",
  size: 10,
  have: 4,
  rate: 2,
  seconds_left: 3,
  facts: { disk_size: 0 },
  copies: [],
};

it("what comes stands first, with how far it is; a failed one says why", async () => {
  service({
    "GET /api/v1/bases": list(
      { ...base, id: 3, name: "notes", state: "failed", why: "it is a text, and no disk image" },
      { ...coming, id: 2, state: "fetching", size: 10 * 2 ** 30, have: 4 * 2 ** 30, rate: 200 * 2 ** 20 },
      base,
    ),
  });
  show(<BasesPage />, "viewer");
  await screen.findByText(/4.0 GiB of 10.0 GiB, 40% fetched, 200 MiB a second, .* left/);
  screen.getByText("it is a text, and no disk image");
  const row = within(screen.getByRole("cell", { name: "harbour-13" }).closest("tr") as HTMLElement);
  row.getByText("Estuary Works Harbour Linux 13");
  row.getByText("north-quay");
  expect(screen.queryByRole("button")).toBeNull();
});

it("a base is asked for from an address, and its page is shown then", async () => {
  const { asked } = service({
    "GET /api/v1/bases": list(),
    "POST /api/v1/bases": { ...base, state: "fetching" },
  });
  const { router } = show(<BasesPage />, "operator", "/bases", "/bases");
  await screen.findByText(/There is no base yet/);
  await userEvent.click(screen.getByRole("button", { name: "Bring in a base" }));
  const form = within(await screen.findByRole("dialog"));
  await userEvent.type(form.getByLabelText(/^Name/), "harbour-13");
  await userEvent.type(form.getByLabelText(/^Address/), "https://images.example/harbour-13.vmdk");
  await userEvent.type(form.getByLabelText("Release"), "13");
  await userEvent.click(form.getByRole("button", { name: "Bring in a base" }));
  await waitFor(() => expect(router.state.location.pathname).toBe("/bases/harbour-13"));
  expect(asked.find((a) => a.what.startsWith("POST"))?.body).toEqual({
    name: "harbour-13",
    labels: { release: "13" },
    address: "https://images.example/harbour-13.vmdk",
  });
});

it("a file that was broken off goes on where it was, if it is the same", async () => {
  let have = 4;
  const { asked } = service({
    "GET /api/v1/bases/harbour-14": () => ({ ...coming, have }),
    "PUT /api/v1/bases/harbour-14/piece": () => {
      have = 10;
      return { ...coming, have, state: "converting" };
    },
  });
  show(<BasePage />, "operator", "/bases/harbour-14", "/bases/:base");
  await screen.findByText(/choose the same file \(harbour-14.qcow2\)/);
  const choose = screen.getByLabelText("The file of harbour-14");
  await userEvent.upload(choose, new File(["another"], "other.qcow2"));
  await screen.findByText(/has 7 bytes, and the file that was begun has 10: take the same file/);
  await userEvent.upload(choose, new File(["0123456789"], "harbour-14.qcow2"));
  await waitFor(() =>
    expect(asked.map((a) => a.what)).toContain("PUT /api/v1/bases/harbour-14/piece?from=4"),
  );
});

it("a base that is ready says what is in it, and can be retired with a reason", async () => {
  const { asked } = service({
    "GET /api/v1/bases/harbour-13": base,
    "POST /api/v1/bases/harbour-13/retire": { ...base, state: "retired" },
  });
  const { router } = show(<BasePage />, "operator", "/bases/harbour-13", "/bases/:base");
  await screen.findByText("Harbour Linux 13 (Estuary)");
  screen.getByText("base: {named: harbour-13}");
  await userEvent.click(screen.getByRole("button", { name: "Retire" }));
  const form = within(await screen.findByRole("dialog"));
  await userEvent.type(form.getByRole("textbox"), "14 is there");
  await userEvent.click(form.getByRole("button", { name: "Retire" }));
  await waitFor(() => expect(router.state.location.pathname).toBe("/bases"));
  expect(asked.find((a) => a.what.includes("retire"))?.body).toEqual({ reason: "14 is there" });
});

const offer = {
  feed: "estuary",
  product: "harbour-linux:13:amd64",
  serial: "20261103",
  labels: base.labels,
  codename: "Estuary",
  address: "https://images.example/13.vmdk",
  size: 2 ** 20,
  kind: "vmdk",
  sha256: "ab",
  with: [{ name: "notes", kind: "release-notes" }],
};

it("a base of which a newer release is out stands beside that", async () => {
  service({
    "GET /api/v1/bases/harbour-13": {
      ...base,
      feed: "estuary",
      serial: "20260804",
      newer: { ...offer, base: "newest" },
    },
    "GET /api/v1/bases/newest": { ...base, name: "newest", facts: { disk_size: 32 << 20 } },
  });
  show(<BasePage />, "viewer", "/bases/harbour-13", "/bases/:base");
  await screen.findByText("20261103 is newer");
  screen.getByText("20260804 of feed estuary");
  await screen.findByText("32 MiB");
  expect(screen.getAllByText("differs")).toHaveLength(3);
});

it("releases are found in the feeds, and brought in as bases", async () => {
  const { asked } = service({
    "GET /api/v1/bases": list(),
    "GET /api/v1/feeds": list({
      name: "estuary",
      address: "https://images.example/",
      releases: 1,
      why: "it answers 502 Bad Gateway",
    }),
    "GET /api/v1/releases": list(offer),
    "POST /api/v1/bases": { ...base, name: "harbour-new", state: "fetching" },
  });
  const { router } = show(<BasesPage />, "operator");
  await screen.findByText("it answers 502 Bad Gateway");
  screen.getByText("release-notes");
  await userEvent.type(screen.getByLabelText("Product"), "harbour");
  await waitFor(() => expect(asked.some((a) => a.what.endsWith("product=harbour"))).toBe(true));
  await userEvent.click(screen.getByRole("button", { name: "Bring in" }));
  const form = within(await screen.findByRole("dialog"));
  await userEvent.type(form.getByLabelText(/^Name/), "harbour-new");
  await userEvent.click(form.getByRole("button", { name: "Bring in" }));
  await waitFor(() => expect(router.state.location.pathname).toBe("/bases/harbour-new"));
  expect(asked.find((a) => a.what.startsWith("POST"))?.body).toEqual({
    name: "harbour-new",
    feed: "estuary",
    serial: "20261103",
    labels: { ...base.labels, product: "harbour-linux:13:amd64" },
  });
});

it("a feed says when it was read, and what of it could not be taken", async () => {
  const { asked } = service({
    "GET /api/v1/feeds/estuary": {
      name: "estuary",
      address: "https://images.example/",
      signed: true,
      every_seconds: 3600,
      releases: 1,
      seen_at: "2026-11-23T12:00:00Z",
      left_out: ["product p, version 1: none of its files is a disk"],
      added_by: "jonas",
    },
    "GET /api/v1/releases": list(offer),
    "POST /api/v1/feeds/estuary/read": {},
  });
  show(<FeedPage />, "operator", "/feeds/estuary", "/feeds/:feed");
  await screen.findByText("product p, version 1: none of its files is a disk");
  screen.getByText("60 min");
  await userEvent.click(screen.getByRole("button", { name: "Read now" }));
  await userEvent.click(within(await screen.findByRole("dialog")).getByRole("button", { name: "Read now" }));
  await waitFor(() => expect(asked.some((a) => a.what.endsWith("/read"))).toBe(true));
});
