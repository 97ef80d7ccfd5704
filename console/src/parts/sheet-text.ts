import {
  type Document,
  isCollection,
  isMap,
  isNode,
  isSeq,
  parseDocument,
  type YAMLMap,
  type YAMLSeq,
} from "yaml";

// A sheet is its text, and nothing else: a form reads it from there and writes each change back into it, around the
// comments that somebody else wrote.

/** Where something stands in a sheet, such as ["steps", 2, "script", "text"]. */
export type Place = (string | number)[];

/** A step as it is written down: what is not known here is left as it is. */
export type SheetStep = { name?: string; off?: boolean } & Record<string, unknown>;

/** What can be read of a sheet; undefined if it is no YAML with keys. */
export function readSheet(text: string): Record<string, unknown> | undefined {
  const doc = parseDocument(text);
  if (doc.errors.length > 0) return undefined;
  if (doc.contents === null) return {};
  const read: unknown = isMap(doc.contents) ? doc.toJS({ maxAliasCount: 100 }) : undefined;
  return typeof read === "object" && read !== null ? (read as Record<string, unknown>) : undefined;
}

/** The steps of a sheet that was read, as far as they can be. */
export function stepsOf(sheet: Record<string, unknown>): SheetStep[] {
  const steps = Array.isArray(sheet.steps) ? sheet.steps : [];
  return steps.map((s) => (typeof s === "object" && s !== null ? (s as SheetStep) : {}));
}

/** What stands at a place of a sheet that was read. */
export function at(sheet: unknown, place: Place): unknown {
  return place.reduce<unknown>(
    (within, key) =>
      typeof within === "object" && within !== null
        ? (within as Record<string | number, unknown>)[key]
        : undefined,
    sheet,
  );
}

/** Returns the text with a change made in it. Text that is no YAML stays as it is. */
function changed(text: string, change: (doc: Document) => void): string {
  const doc = parseDocument(text);
  if (doc.errors.length > 0) return text;
  change(doc);
  return doc.toString({ lineWidth: 0, flowCollectionPadding: false });
}

/** Whether a value is as good as not written. */
const nothing = (value: unknown) =>
  value === undefined ||
  value === "" ||
  (Array.isArray(value) && value.length === 0) ||
  (typeof value === "object" && value !== null && !Array.isArray(value) && Object.keys(value).length === 0);

/** Writes a value at a place; nothing there takes the key away, and a collection around it that is then empty. */
export function put(text: string, place: Place, value: unknown): string {
  return changed(text, (doc) => {
    if (nothing(value)) {
      remove(doc, place);
      return;
    }
    const multiline = JSON.stringify(value).includes("\\n");
    for (let n = 1; n < place.length; n++) {
      const around = doc.getIn(place.slice(0, n), true);
      // Text of several lines reads well only in a collection that is written line by line.
      if (multiline && isCollection(around)) around.flow = false;
      // A key that is there without a value.
      if (around !== undefined && !isCollection(around)) doc.deleteIn(place.slice(0, n));
    }
    const there = doc.getIn(place, true);
    const node = doc.createNode(value);
    if (isNode(there)) {
      node.comment = there.comment;
      node.commentBefore = there.commentBefore;
      node.spaceBefore = there.spaceBefore;
      if (isCollection(there) && isCollection(node) && !multiline) node.flow = there.flow;
    } else if (isSeq(node) && !multiline) node.flow = true;
    doc.setIn(place, node);
  });
}

function remove(doc: Document, place: Place) {
  doc.deleteIn(place);
  const around = place.slice(0, -1);
  const left = around.length > 0 ? doc.getIn(around, true) : undefined;
  // What a step does, such as update: {}, says something without a key in it.
  const says = around.length === 3 && around[0] === "steps";
  if (isCollection(left) && left.items.length === 0 && !says && typeof around.at(-1) === "string")
    remove(doc, around);
}

function listOf(doc: Document, key: string): YAMLSeq {
  const there = doc.get(key, true);
  if (isSeq(there)) return there;
  const made = doc.createNode([]) as unknown as YAMLSeq;
  doc.set(key, made);
  return made;
}

/** Adds something at the end of a list, such as ["steps"]. */
export function append(text: string, list: string, item: Record<string, unknown>): string {
  return changed(text, (doc) => {
    const all = listOf(doc, list);
    all.flow = false;
    const node = doc.createNode(item) as unknown as YAMLMap;
    node.spaceBefore = all.items.some((i) => isNode(i) && i.spaceBefore);
    for (const { value } of node.items)
      if (isCollection(value) && value.items.length === 0) value.flow = true;
    all.add(node);
  });
}

/** Moves a step to another place, with the comments that belong to it. */
export function moveStep(text: string, from: number, to: number): string {
  return changed(text, (doc) => {
    const all = listOf(doc, "steps");
    if (to < 0 || to >= all.items.length || from === to) return;
    // The comment above the first step stands with the list.
    const first = all.items[0];
    if (all.commentBefore && isNode(first)) {
      first.commentBefore = [all.commentBefore, first.commentBefore].filter(Boolean).join("\n");
      all.commentBefore = undefined;
    }
    const spaced = all.items.some((i) => isNode(i) && i.spaceBefore);
    const [moved] = all.items.splice(from, 1);
    all.items.splice(to, 0, moved);
    all.items.forEach((i, n) => {
      if (isNode(i)) i.spaceBefore = spaced && n > 0;
    });
  });
}

/** Takes a step away, with the comments that belong to it. */
export function removeStep(text: string, step: number): string {
  return changed(text, (doc) => {
    listOf(doc, "steps").items.splice(step, 1);
  });
}
