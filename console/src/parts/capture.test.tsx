import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it } from "vitest";
import { ImagePage } from "../pages/image";
import { Refused, service, show } from "../testing";

const list = (...items: unknown[]) => ({ items, next: "" });

describe("capturing", () => {
  const image = {
    name: "counter-desk",
    title: "Ticket counters",
    numbering: "calendar",
    machine_class: "standard",
    testers: 2,
    soak: "24h",
    copies: 2,
    tracks: [{ name: "pilot" }, { name: "live" }],
    versions: 0,
    next_number: "2026.11.1",
    revision: 1,
  };
  const machine = (name: string, machine_class: string) => ({
    name,
    machine_class,
    state: "running",
    base: "vendor",
    changes: "Fare Desk 6.2",
  });
  const answers = {
    "GET /api/v1/images/counter-desk": image,
    "GET /api/v1/images/counter-desk/versions": list(),
    "GET /api/v1/images/counter-desk/moves": list(),
    "GET /api/v1/sites": list({
      name: "north-quay",
      build_machines: [machine("bm-chart", "graphics"), machine("bm-counter", "standard")],
    }),
  };
  const open = async () => {
    show(<ImagePage />, "operator", "/images/counter-desk", "/images/:image");
    const user = userEvent.setup();
    await user.click(await screen.findByRole("button", { name: "Capture a version" }));
    return { user, dialog: await screen.findByRole("dialog", { name: "Capture counter-desk 2026.11.1" }) };
  };

  it("offers the machines of the image's class, and sends what was written", async () => {
    const { asked } = service({ ...answers, "POST /api/v1/images/counter-desk/versions": {} });
    const { user, dialog } = await open();
    await waitFor(() =>
      expect(
        within(within(dialog).getByRole("combobox"))
          .getAllByRole("option")
          .map((o) => o.textContent),
      ).toEqual(["bm-counter at north-quay, running"]),
    );
    within(dialog).getByText("Done on it: Fare Desk 6.2");
    await user.type(within(dialog).getByLabelText("Notes"), "December fixes");
    await user.type(within(dialog).getByLabelText("Tags, with commas between"), " winter,");
    await user.click(within(dialog).getByRole("button", { name: "Capture a version" }));
    await waitFor(() =>
      expect(asked.find((a) => a.what.startsWith("POST"))?.body).toEqual({
        build_machine: "bm-counter",
        site: "north-quay",
        notes: "December fixes",
        tags: ["winter"],
      }),
    );
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("keeps the form, and what was written in it, when it is refused", async () => {
    service({
      ...answers,
      "POST /api/v1/images/counter-desk/versions": new Refused(409, "bm-counter is being captured already"),
    });
    const { user, dialog } = await open();
    await user.type(within(dialog).getByLabelText("Notes"), "December fixes");
    await user.click(within(dialog).getByRole("button", { name: "Capture a version" }));
    await within(dialog).findByText("bm-counter is being captured already");
    within(dialog).getByDisplayValue("December fixes");
    await user.keyboard("{Escape}");
    await waitFor(() => expect(screen.queryByRole("dialog")).toBeNull());
  });

  it("is not offered to those who only look", async () => {
    service(answers);
    show(<ImagePage />, "viewer", "/images/counter-desk", "/images/:image");
    await screen.findByRole("heading", { name: /counter-desk/ });
    expect(screen.queryByRole("button", { name: "Capture a version" })).toBeNull();
    expect(screen.queryByRole("button", { name: "Roll back" })).toBeNull();
  });
});
