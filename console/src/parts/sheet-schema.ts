import published from "../../../core/sheet/sheet.schema.json";

// What the published schema of sheets says of a place in a text that is being
// written, and may not be right yet: it is found by the indents above it.

type Schema = {
  $ref?: string;
  properties?: Record<string, Schema>;
  items?: Schema;
  additionalProperties?: Schema | boolean;
  enum?: unknown[];
  type?: string;
  description?: string;
};

const root = published as unknown as Schema & { $defs: Record<string, Schema> };

function resolved(s: Schema | undefined): Schema | undefined {
  return s?.$ref ? { description: s.description, ...root.$defs[s.$ref.replace("#/$defs/", "")] } : s;
}

/** The schema of what stands below keys; items of a list count as what is in the list. */
function below(keys: string[]): Schema | undefined {
  let s = resolved(root);
  for (const key of keys) {
    const next: Schema | undefined =
      s?.properties?.[key] ??
      (typeof s?.additionalProperties === "object" ? s.additionalProperties : undefined);
    s = resolved(next);
    while (s?.items) s = { description: s.description, ...resolved(s.items) };
  }
  return s;
}

/** What a line of a text begins with: the column of its list mark, and its key with the column of that. */
function beginning(line: string) {
  const [, indent = "", dashes = "", key] =
    line.match(/^( *)((?:- +)*)(?:"?([A-Za-z][\w-]*)"?:(?= |$))?/) ?? [];
  return {
    blank: /^\s*(#.*)?$/.test(line),
    dash: dashes ? indent.length + dashes.lastIndexOf("-") : undefined,
    column: indent.length + dashes.length,
    key,
  };
}

/** The keys that a place in a text is below. */
function keysAbove(lines: string[], line: number): string[] {
  const keys: string[] = [];
  const here = beginning(lines[line] ?? "");
  // What it is below begins before this column, or at it if what is here is an item of a list.
  let limit = here.dash ?? here.column;
  let orAt = here.dash !== undefined;
  for (let n = line - 1; n >= 0 && (limit > 0 || orAt); n--) {
    const above = beginning(lines[n] ?? "");
    if (above.blank) continue;
    if (above.key && (above.column < limit || (orAt && above.column === limit && above.dash === undefined))) {
      keys.unshift(above.key);
      limit = above.dash ?? above.column;
      orAt = above.dash !== undefined;
    } else if (above.dash !== undefined && above.dash < limit) {
      limit = above.dash;
      orAt = true;
    }
  }
  return keys;
}

/** Where a place is: the keys that it is below, and the one whose value it is in, if it is in one. */
function whereIs(text: string, position: number): { keys: string[]; value?: string; from: number } {
  const before = text.slice(0, position);
  const lines = before.split("\n");
  const line = lines.at(-1) ?? "";
  const { keys: braced, open, last } = braces(line);
  const keys = [...keysAbove(lines, lines.length - 1), ...braced];
  const entry = open ? last : line.replace(/^( *)((?:- +)*)/, "");
  const [, key, value] = entry.match(keyed) ?? [];
  const written = key ? (value ?? "") : entry.trimStart();
  return { keys, value: key, from: position - written.length };
}

const keyed = /^ *"?([A-Za-z][\w-]*)"?: +(.*)$/;

/** What is open at the end of a line, such as install: {packages: [a], ...: the keys of its braces, and what came last. */
function braces(line: string): { keys: string[]; open: boolean; last: string } {
  const open: (string | undefined)[] = [];
  let last = line.replace(/^( *)((?:- +)*)/, "");
  for (let n = line.length - last.length, start = n; n < line.length; n++) {
    const c = line[n] ?? "";
    if (c === "{" || c === "[") open.push(last.match(/^ *"?([A-Za-z][\w-]*)"?: *$/)?.[1]);
    if (c === "}" || c === "]") open.pop();
    if ("{[,".includes(c)) start = n + 1;
    last = line.slice(start, n + 1);
  }
  return { keys: open.filter((k) => k !== undefined), open: open.length > 0, last };
}

export type Offer = { label: string; insert: string; help: string };

/** What can be written at a place, and from where on it takes the place of what is there. */
export function offers(text: string, position: number): { from: number; offers: Offer[] } {
  const { keys, value, from } = whereIs(text, position);
  if (value !== undefined) {
    const s = below([...keys, value]);
    const values = s?.enum ?? (s?.type === "boolean" ? [true, false] : []);
    return {
      from,
      offers: values.map((v) => ({ label: String(v), insert: String(v), help: s?.description ?? "" })),
    };
  }
  const s = below(keys);
  return {
    from,
    offers: Object.entries(s?.properties ?? {}).map(([key, of]) => {
      const is = resolved(of);
      const collection = is?.properties || is?.items || is?.additionalProperties;
      return {
        label: key,
        insert: collection ? `${key}:` : `${key}: `,
        help: of.description ?? is?.description ?? "",
      };
    }),
  };
}

/** What the schema says of the key at a place, if one is there. */
export function helpAt(
  text: string,
  position: number,
): { from: number; to: number; help: string } | undefined {
  const word = /[\w-]/;
  let from = position;
  let to = position;
  while (from > 0 && word.test(text[from - 1] ?? "")) from--;
  while (to < text.length && word.test(text[to] ?? "")) to++;
  const key = text.slice(from, to);
  if (!key || !/^"?:/.test(text.slice(to))) return undefined;
  const { keys } = whereIs(text, from);
  const help = below([...keys, key])?.description ?? resolved(below(keys)?.properties?.[key])?.description;
  return help ? { from, to, help } : undefined;
}
