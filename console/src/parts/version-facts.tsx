import { Box } from "@chakra-ui/react";
import type { Version } from "../api";
import { count, day, shortDigest, size, time } from "../format";
import type { Stated } from "../panes";
import { Facts, State, To } from "../ui";

/** The state of a version, in a word. */
export function stateOf(v: Version): Stated {
  return v.barred ? "barred" : v.state;
}

/** The copies of a version at each site. */
export function copiesOf(v: Version): string[] {
  const sites = new Map<string, [number, number]>();
  for (const c of v.copies) {
    if (c.state === "leaving") continue;
    const [there, all] = sites.get(c.site) ?? [0, 0];
    sites.set(c.site, [there + (c.state === "present" ? 1 : 0), all + 1]);
  }
  return [...sites].map(([site, [there, all]]) => `${site} ${there === all ? all : `${there} of ${all}`}`);
}

/** What is known of a version. */
export function VersionFacts({ version: v }: { version: Version }) {
  return (
    <Facts
      of={[
        ["State", <State key="s" of={stateOf(v)} />],
        ["Standing", v.standing.join(", ")],
        ["Barred", v.barred && `${v.barred} (${v.barred_by}, ${day(v.barred_at)})`],
        ["Failure", v.failure],
        ["Hosts", v.hosts],
        ["Copies", copiesOf(v).join(", ")],
        ["Source", v.source],
        [
          "Build",
          v.build && (
            <To key="b" to={`/builds/${v.build}`}>
              {String(v.build)}
            </To>
          ),
        ],
        ["Made from", v.base],
        ["Commit", v.commit],
        ["Notes", v.notes],
        ["Tags", v.tags.join(", ")],
        ["End-of-life", day(v.end_of_life)],
        ["Captured", `${time(v.created_at)} by ${v.captured_by}`],
        [
          "Sealing",
          v.sealing && v.sealing.length > 0 && (
            <Box as="ul">
              {v.sealing.map((s) => (
                <li key={s}>{s}</li>
              ))}
            </Box>
          ),
        ],
        [
          "Seal checks",
          v.findings && v.findings.length > 0 && (
            <Box as="ul">
              {v.findings.map((f) => (
                <li key={f.check}>
                  {f.check}: {f.evidence}
                  {f.waived && `; passed over: ${f.waived}`}
                </li>
              ))}
            </Box>
          ),
        ],
        [
          "Software",
          v.software ? (
            <To key="l" to={`/images/${v.image}/versions/${v.number}/software`}>
              {count(v.software, "entry", "entries")}
            </To>
          ) : (
            v.unlisted && `not listed: ${v.unlisted}`
          ),
        ],
        [
          "Passed over",
          v.waived &&
            Object.entries(v.waived)
              .map(([software, why]) => `${software} is older: ${why}`)
              .join("; "),
        ],
        ["Applications", v.applications?.map((a) => a.name).join(", ")],
        ["Sealed", time(v.sealed_at)],
        [
          "Size",
          size(v.size_bytes) + (v.size_before_bytes ? `, compacted from ${size(v.size_before_bytes)}` : ""),
        ],
        ["Digest", v.digest && <code title={v.digest}>{shortDigest(v.digest)}</code>],
      ]}
    />
  );
}
