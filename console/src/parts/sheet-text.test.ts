import { expect, it } from "vitest";
import { append, at, moveStep, put, readSheet, removeStep, stepsOf } from "./sheet-text";

const text = `# How the counters get their desk.
image: counter-desk # of the counters

base: {track: live}
machine: {site: north-quay}

steps:
  # The program that sells tickets.
  - name: Fare Desk
    install: {packages: [fare-desk]} # 6.2 and above
    time-limit: 20m

  - name: Tide Tables
    # of the estuary
    install: {packages: [tide-tables]}

  - {name: Restart, restart: {}}

version:
  notes: November # and December
`;

it("writes a value where it belongs, and leaves the rest as it was written", () => {
  expect(put(text, ["image"], "chart-desk")).toBe(text.replace("image: counter-desk", "image: chart-desk"));
  expect(put(text, ["steps", 0, "install", "packages"], ["fare-desk", "fonts"])).toBe(
    text.replace("[fare-desk]", "[fare-desk, fonts]"),
  );
  expect(put(text, ["machine", "cores"], 8)).toBe(
    text.replace("{site: north-quay}", "{site: north-quay, cores: 8}"),
  );
  expect(put(text, ["version", "notes"], "December")).toBe(
    text.replace("notes: November", "notes: December"),
  );
  expect(put(text, ["version", "end-of-life"], "in 6 months")).toBe(`${text}  end-of-life: in 6 months\n`);
  expect(put(text, ["time-limit"], "3h")).toBe(`${text}time-limit: 3h\n`);
});

it("takes away what is empty, and what is around it then", () => {
  expect(put(text, ["steps", 0, "time-limit"], "")).toBe(text.replace("    time-limit: 20m\n", ""));
  expect(put(text, ["version", "notes"], "")).not.toContain("version");
  const changed = put(
    put(text, ["steps", 2, "restart", "within"], "5m"),
    ["steps", 2, "restart", "within"],
    "",
  );
  expect(changed).toBe(text);
  expect(put(text, ["steps", 1, "install", "packages"], [])).toContain("install: {}");
});

it("writes text of several lines line by line", () => {
  const changed = put(text, ["steps", 2], { name: "Fonts", script: { text: "#!/bin/sh\nfc-cache\n" } });
  expect(changed).toContain(
    "  - name: Fonts\n    script:\n      text: |\n        #!/bin/sh\n        fc-cache\n",
  );
  const inFlow = put("steps: [{name: a, put: {to: /x}}]\n", ["steps", 0, "put", "text"], "a\nb\n");
  expect(inFlow).toBe("steps:\n  - name: a\n    put:\n      to: /x\n      text: |\n        a\n        b\n");
});

it("moves steps with their comments", () => {
  const moved = moveStep(text, 0, 1);
  expect(stepsOf(readSheet(moved) ?? {}).map((s) => s.name)).toEqual(["Tide Tables", "Fare Desk", "Restart"]);
  expect(moved).toContain("  # The program that sells tickets.\n  - name: Fare Desk\n");
  expect(moved).toContain("[fare-desk]} # 6.2 and above");
  expect(moved).toContain("  - name: Tide Tables\n    # of the estuary\n");
  expect(moveStep(moved, 1, 0)).toBe(text);
  expect(moveStep(text, 0, 3)).toBe(text);
  const gone = removeStep(text, 1);
  expect(gone).not.toContain("estuary");
  expect(gone).toContain("sells tickets");
});

it("adds steps, to a sheet that has none as well", () => {
  const added = append(text, "steps", { name: "Updates", update: {} });
  expect(added).toContain("restart: {}}\n\n  - name: Updates\n    update: {}\n\nversion:");
  expect(append("image: x # y\n", "steps", { name: "a", checkpoint: {} })).toBe(
    "image: x # y\nsteps:\n  - name: a\n    checkpoint: {}\n",
  );
  expect(append("image: x\nsteps:\n", "steps", { name: "a", checkpoint: {} })).toContain(
    "steps:\n  - name: a\n",
  );
  expect(append("", "steps", { name: "a", checkpoint: {} })).toBe(
    "steps:\n  - name: a\n    checkpoint: {}\n",
  );
});

it("leaves text alone that it cannot read", () => {
  const broken = "steps: [\n  - a";
  expect(readSheet(broken)).toBeUndefined();
  expect(put(broken, ["image"], "x")).toBe(broken);
  expect(readSheet("- a\n")).toBeUndefined();
  expect(readSheet("")).toEqual({});
  expect(at({ a: [{ b: 1 }] }, ["a", 0, "b"])).toBe(1);
  expect(at({ a: 1 }, ["a", "b", "c"])).toBeUndefined();
  expect(stepsOf({ steps: [1, { name: "x" }] })).toEqual([{}, { name: "x" }]);
});
