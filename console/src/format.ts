/** Writes a time of the service, in UTC. */
export function time(at?: string | null): string {
  return at ? `${at.slice(0, 10)} ${at.slice(11, 16)}` : "";
}

/** Writes the day of a time. */
export function day(at?: string | null): string {
  return at ? at.slice(0, 10) : "";
}

/** Writes for how long something went on: "2 h 05 min". */
export function lasted(seconds: number): string {
  const minutes = Math.floor(seconds / 60);
  if (minutes < 60) return `${minutes} min`;
  return `${Math.floor(minutes / 60)} h ${String(minutes % 60).padStart(2, "0")} min`;
}

/** Writes a number of bytes in GiB, or MiB or KiB if it is less than one. */
export function size(bytes: number): string {
  if (bytes > 0 && bytes < 2 ** 20) return `${Math.ceil(bytes / 2 ** 10)} KiB`;
  if (bytes > 0 && bytes < 2 ** 30) return `${Math.floor(bytes / 2 ** 20)} MiB`;
  return bytes ? `${(bytes / 2 ** 30).toFixed(1)} GiB` : "";
}

/** Writes "1 host" or "3 hosts", with the plural if it is not made by an s. */
export function count(n: number, noun: string, plural = `${noun}s`): string {
  return `${n} ${n === 1 ? noun : plural}`;
}

/** Writes a record of counts as "38 serving, 2 draining", the largest first. */
export function counts(of: Record<string, number>): string {
  return Object.entries(of)
    .filter(([, n]) => n > 0)
    .sort(([a, n], [b, m]) => m - n || a.localeCompare(b))
    .map(([name, n]) => `${n} ${name || "without a version"}`)
    .join(", ");
}

/** Writes a digest short enough to compare by eye. */
export function shortDigest(digest: string): string {
  return digest.replace("sha256:", "").slice(0, 12);
}

/**
 * Splits a text so that every other piece, from the second on, is not to be broken over lines: a date with its time,
 * or a name with a number behind its hyphen, such as a host's.
 */
export function pieces(text: string): string[] {
  return text.split(
    /(\d{4}-\d\d-\d\d(?:[ T]\d\d:\d\d(?::\d\d)?(?: UTC|Z)?)?|\b[a-z][a-z0-9]*(?:-[a-z0-9]+)*-\d+\b)/,
  );
}

/** Writes a value of a trail entry: a time as people read times, to the second. */
function value(v: unknown): string {
  const at = /^(\d{4}-\d\d-\d\d)T(\d\d:\d\d:\d\d)(?:\.\d+)?Z$/.exec(String(v));
  return at ? `${at[1]} ${at[2]} UTC` : String(v);
}

/** Writes the detail of a trail entry in one line: "track pilot, before 2026.11.2". What says nothing is left out. */
export function detail(of: unknown): string {
  if (typeof of !== "object" || of === null) return "";
  return Object.entries(of)
    .filter(([, v]) => v !== null && v !== false && v !== "")
    .map(([k, v]) => `${k.replaceAll("_", " ")} ${Array.isArray(v) ? v.map(value).join(", ") : value(v)}`)
    .join(", ");
}

/** Writes a version's number as short as a pane: without the century of one that is numbered by the calendar. */
export function shortNumber(number: string): string {
  return number.replace(/^20(?=\d\d\.\d\d\.)/, "");
}

/** How long something took, to the second if it was less than an hour; "" if it did not begin or end. */
export function duration(from?: string | null, to?: string | null): string {
  if (!from || !to) return "";
  const seconds = Math.round((Date.parse(to) - Date.parse(from)) / 1000);
  return seconds < 3600 ? span(seconds) : lasted(seconds);
}

/** Writes a short time, in seconds, to the second. */
export function span(seconds: number): string {
  const minutes = Math.floor(seconds / 60);
  return minutes > 0 ? `${minutes} min ${seconds % 60} s` : `${seconds} s`;
}
