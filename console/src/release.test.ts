import { expect, it, vi } from "vitest";
import { reloadOnce } from "./release";

it("reloads a page with a missing chunk, at most once a minute", () => {
  const reload = vi.fn();
  vi.stubGlobal("location", { ...window.location, reload });
  vi.useFakeTimers();
  const missing = () => {
    const event = new Event("vite:preloadError", { cancelable: true });
    reloadOnce(event);
    return event.defaultPrevented;
  };
  expect(missing()).toBe(true);
  expect(missing()).toBe(false);
  expect(reload).toHaveBeenCalledTimes(1);
  vi.advanceTimersByTime(61_000);
  expect(missing()).toBe(true);
  expect(reload).toHaveBeenCalledTimes(2);
  vi.useRealTimers();
  vi.unstubAllGlobals();
});
