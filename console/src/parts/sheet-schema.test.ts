import { expect, it } from "vitest";
import { helpAt, offers } from "./sheet-schema";

/** What is offered where | stands. */
const offered = (text: string) => {
  const position = text.indexOf("|");
  const { from, offers: list } = offers(text.replace("|", ""), position);
  return { at: text.slice(from, position), labels: list.map((o) => o.label) };
};

it("offers the keys of a place that is not written yet", () => {
  expect(offered("ima|").labels).toContain("image");
  expect(offered("ima|").at).toBe("ima");
  expect(offered("image: x\n|").labels).toContain("steps");
  expect(offered("base:\n  |").labels).toEqual(["track", "version", "disk", "named", "vendor"]);
  expect(offered("steps:\n  - |").labels).toContain("install");
  expect(offered("steps:\n- name: a\n  |").labels).toContain("install");
  expect(offered("steps:\n  - name: a\n    install:\n      packages: [a]\n    |").labels).toContain(
    "time-limit",
  );
  expect(offered("steps:\n  - name: a\n    install:\n      |").labels).toEqual(["packages"]);
  expect(offered("steps:\n  - name: a\n    script:\n      text: |\n").labels).toEqual([]);
  expect(offered("parameters:\n  queue:\n    de|").labels).toContain("default");
  expect(offered("applications:\n  - name: a\n    opens: {pro|").labels).toContain("process");
});

it("offers keys within braces, and values that are known", () => {
  expect(offered("base: {|").labels).toEqual(["track", "version", "disk", "named", "vendor"]);
  expect(offered("steps:\n  - {name: a, upd|").labels).toContain("update");
  expect(offered("steps:\n  - {name: a, update: {on|").labels).toEqual(["only", "restart"]);
  expect(offered("steps:\n  - {name: a, update: {}, on|").labels).toContain("on-failure");
  expect(offered("steps:\n  - {name: a, update: {only: |").labels).toEqual(["all", "security"]);
  expect(offered("version:\n  stage: |").labels).toEqual(["true", "false"]);
  expect(offered("version: {stage: t|").at).toBe("t");
  expect(offered("image: |").labels).toEqual([]);
});

it("says what a key is for", () => {
  const text = "steps:\n  - name: a\n    time-limit: 5m\n    put: {to: /x}\n";
  expect(helpAt(text, text.indexOf("limit"))?.help).toContain("30m if not given");
  expect(helpAt(text, text.indexOf("to:"))?.help).toContain("a path of the machine");
  expect(helpAt(text, text.indexOf("5m"))).toBeUndefined();
});
