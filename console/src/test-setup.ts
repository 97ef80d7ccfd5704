import { cleanup, configure } from "@testing-library/react";
import { afterEach, vi } from "vitest";

configure({ asyncUtilTimeout: 10_000 });
afterEach(cleanup);

// What jsdom lacks of a browser, as far as components ask for it.
class Watch {
  observe() {}
  unobserve() {}
  disconnect() {}
}
vi.stubGlobal("ResizeObserver", Watch);
// Everything is seen.
vi.stubGlobal(
  "IntersectionObserver",
  class extends Watch {
    constructor(readonly told: (entries: { isIntersecting: boolean }[]) => void) {
      super();
    }
    override observe() {
      this.told([{ isIntersecting: true }]);
    }
  },
);
vi.stubGlobal("matchMedia", (query: string) => ({
  matches: false,
  media: query,
  addEventListener() {},
  removeEventListener() {},
}));
Element.prototype.scrollTo ??= () => {};
window.scrollTo = () => {};
// Everything is 1,000 pixels wide.
Object.defineProperty(HTMLElement.prototype, "clientWidth", { configurable: true, value: 1000 });
