import type { Field } from "./sheet-fields";
import type { SheetStep } from "./sheet-text";

/** What a step can do, as a form for people who do not write it down themselves. */
export type StepKind = { kind: string; label: string; starts: unknown; fields: Field[] };

const path = (key: string, label: string): Field => ({ key, label, way: "text" });
const owner: Field[] = [
  { key: "owner", label: "Owner", way: "text", help: "root if left out" },
  { key: "mode", label: "Mode", way: "text", help: "0644 if left out" },
];

export const stepKinds: StepKind[] = [
  {
    kind: "install",
    label: "Install packages",
    starts: { packages: [] },
    fields: [{ key: "packages", label: "Packages", way: "list", help: "A line each", long: true }],
  },
  {
    kind: "remove",
    label: "Remove packages or files",
    starts: {},
    fields: [
      { key: "packages", label: "Packages", way: "list", help: "A line each", long: true },
      { key: "files", label: "Files and folders", way: "list", help: "Full paths, a line each", long: true },
    ],
  },
  {
    kind: "update",
    label: "Apply updates",
    starts: {},
    fields: [{ key: "only", label: "Which", way: { choice: ["all", "security"] } }],
  },
  {
    kind: "script",
    label: "Run a script",
    starts: { text: "#!/bin/sh\nset -eu\n" },
    fields: [
      { key: "text", label: "Script", way: "lines", help: "Begins with its interpreter", long: true },
      { key: "file", label: "Or a file beside the sheet", way: "text" },
      { key: "arguments", label: "Arguments", way: "list", help: "A line each" },
      { key: "environment", label: "Variables", way: "pairs", help: "NAME = VALUE, a line each" },
      { key: "secrets", label: "Secrets", way: "pairs", help: "VARIABLE = name of a secret of the sheet" },
      { key: "as", label: "As", way: "text", help: "An account of the machine; root if left out" },
    ],
  },
  {
    kind: "put",
    label: "Put a file or folder",
    starts: { to: "/etc/", text: "\n" },
    fields: [
      path("to", "To"),
      { key: "text", label: "Text", way: "lines", long: true },
      { key: "file", label: "Or a file beside the sheet", way: "text" },
      { key: "folder", label: "Or all of a folder beside it", way: "text" },
      ...owner,
    ],
  },
  {
    kind: "fetch",
    label: "Fetch a file",
    starts: { from: "https://", sha256: "", to: "/" },
    fields: [
      { key: "from", label: "From", way: "text", long: true },
      { key: "sha256", label: "Its SHA-256", way: "text", long: true },
      path("to", "To"),
      ...owner,
    ],
  },
  {
    kind: "settings",
    label: "Settings for new people",
    starts: {},
    fields: [
      { key: "home", label: "File in a new home", way: "texts", long: true },
      {
        key: "environment",
        label: "Variables of their sessions",
        way: "pairs",
        help: "NAME = VALUE, a line each",
      },
    ],
  },
  {
    kind: "locale",
    label: "Time zone, language, keyboard",
    starts: {},
    fields: [
      { key: "time-zone", label: "Time zone", way: "text", help: "Such as Europe/Paris" },
      { key: "language", label: "Language", way: "text", help: "Such as fr_FR.UTF-8" },
      { key: "keyboard", label: "Keyboard", way: "text", help: "Such as fr, or de nodeadkeys" },
    ],
  },
  {
    kind: "restart",
    label: "Restart the machine",
    starts: {},
    fields: [{ key: "within", label: "Back within", way: "text", help: "10m if left out" }],
  },
  { kind: "checkpoint", label: "Make a checkpoint", starts: {}, fields: [] },
];

/** What a step does, by the key that it has for that. */
export function kindOf(step: SheetStep): StepKind | undefined {
  return stepKinds.find((k) => k.kind in step);
}

/** What every step may say beside what it does. */
export const everyStep: Field[] = [
  { key: "name", label: "Name", way: "text" },
  { key: "when", label: "Only when", way: "text", help: 'A condition, such as site == "south-quay"' },
  { key: "time-limit", label: "Time limit", way: "text", help: "30m if left out" },
];

export const versionFields: Field[] = [
  { key: "notes", label: "Notes", way: "lines", long: true },
  { key: "end-of-life", label: "End-of-life", way: "text", help: "A date, or in 6 months" },
  { key: "number", label: "Number", way: "text", help: "The next one if left out" },
  { key: "tags", label: "Tags", way: "list", help: "A line each" },
  { key: "stage", label: "Stage it when it is ready", way: "check" },
  { key: "notes-from-commits", label: "Commits since the last build in its notes", way: "check" },
];

export const applicationFields: Field[] = [
  { key: "name", label: "Name", way: "text" },
  { key: "command", label: "Command", way: "text", help: "A full path of the machine" },
  { key: "arguments", label: "Arguments", way: "list", help: "A line each" },
  { key: "within", label: "Within", way: "text", help: "60s if left out" },
];

export const parameterFields: Field[] = [
  { key: "type", label: "Type", way: { choice: ["text", "number", "switch"] } },
  { key: "default", label: "Default", way: "text", help: "None: whoever starts a build is asked" },
  { key: "about", label: "What it is for", way: "text" },
  { key: "allowed", label: "Allowed values", way: "list", help: "A line each; any if left out" },
];
