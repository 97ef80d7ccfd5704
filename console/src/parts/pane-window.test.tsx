import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { describe, expect, it, vi } from "vitest";
import { lookOfHost } from "../panes";
import { service, show } from "../testing";
import { manyPanes, type PaneOf, PaneWindow } from "./pane-window";

const pane = (n: number, state: "serving" | "faulty" = "serving"): PaneOf => ({
  name: `tc-${String(n).padStart(4, "0")}`,
  look: lookOfHost(state, false),
  line: "2026.11.1",
  hint: `tc-${n}, ${state}`,
});
const panes = (n: number) => Array.from({ length: n }, (_, i) => pane(i + 1));

describe("PaneWindow", () => {
  it("writes name, word and line on panes that are few", () => {
    service({});
    show(<PaneWindow label="Hosts" panes={[pane(1), pane(2, "faulty")]} onOpen={() => {}} />);
    const broken = screen.getByTitle("tc-2, faulty");
    expect(broken.textContent).toBe("tc-0002faulty2026.11.1");
    expect(broken.className).toContain("broken cross");
  });
  it("draws only those of thousands that one looks at, small, with their words for who cannot see them", () => {
    service({});
    show(<PaneWindow label="Hosts" panes={panes(20_000)} onOpen={() => {}} />);
    const drawn = document.querySelectorAll("button");
    expect(drawn.length).toBeGreaterThan(manyPanes);
    expect(drawn.length).toBeLessThan(3000); // what a window of jsdom has room for
    expect(drawn[0].textContent).toBe("");
    expect(drawn[0].getAttribute("aria-label")).toBe("tc-1, serving");
  });
  it("is one stop of the Tab key, and the arrows go from pane to pane", async () => {
    service({});
    const open = vi.fn();
    show(<PaneWindow label="Hosts" panes={panes(30)} onOpen={open} />);
    const user = userEvent.setup();
    await user.tab();
    expect(document.activeElement?.getAttribute("title")).toBe("tc-1, serving");
    await user.keyboard("{ArrowRight}");
    await vi.waitFor(() => expect(document.activeElement?.getAttribute("title")).toBe("tc-2, serving"));
    await user.keyboard("{ArrowDown}"); // eleven in a row of 1,000 pixels
    await vi.waitFor(() => expect(document.activeElement?.getAttribute("title")).toBe("tc-13, serving"));
    await user.keyboard("{End}{ArrowRight}{Enter}");
    await vi.waitFor(() => expect(open).toHaveBeenCalledWith("tc-0030"));
    await user.tab();
    expect(document.activeElement).toBe(document.body);
  });
});
