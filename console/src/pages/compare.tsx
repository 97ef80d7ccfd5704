import { Box, Button, Flex, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, type Comparison, type ComparisonLine, call, type SoftwareChange } from "../api";
import { count, lasted, size, time } from "../format";
import { FlawsCompared } from "../parts/flaws";
import { Choose, Find, Narrowing, useNarrowing } from "../parts/paged";
import { Empty, List, Page, Panel, Shown, State, To, Words } from "../ui";

/** What is read first, and by which name. */
const groups = {
  applications: "Applications",
  noticed: "What people will notice",
  security: "Security fixes",
  rest: "The rest",
} as const;

const whats = ["removed", "downgraded", "changed", "updated", "added"] as const;

/** How many lines of a group are shown before somebody asks for all. */
const few = 25;

/** How a version differs from the one in use, or from another. */
export function ComparePage() {
  const { image = "", number = "" } = useParams();
  const [{ with: other, search, what }, narrow] = useNarrowing(["with", "search", "what"]);
  const path = { image, number };
  const comparison = useQuery({
    queryKey: ["comparisons", image, number, other],
    queryFn: () =>
      call(
        api.GET("/api/v1/images/{image}/versions/{number}/comparison", {
          params: { path, query: { from: other || undefined } },
        }),
      ),
  });
  const versions = useQuery({
    queryKey: ["versions", image],
    queryFn: () => call(api.GET("/api/v1/images/{image}/versions", { params: { path: { image } } })),
  });
  const from = comparison.data?.from.number ?? other;
  return (
    <Page
      title={`${image} ${number}${from && ` compared with ${from}`}`}
      lead={
        <span>
          What is different in <To to={`/images/${image}/versions/${number}`}>{number}</To>
          {from && (
            <>
              , seen from <To to={`/images/${image}/versions/${from}`}>{from}</To>
            </>
          )}
        </span>
      }
      actions={
        comparison.data && (
          <Button asChild size="xs" variant="outline">
            <a href={`/api/v1/images/${image}/versions/${number}/comparison/document?from=${from}`} download>
              Download for a change ticket
            </a>
          </Button>
        )
      }
    >
      <Narrowing>
        <Choose
          label="Compared with"
          all="The version in use"
          value={other}
          of={(versions.data?.items ?? []).filter((v) => v.number !== number).map((v) => v.number)}
          onChoose={(v) => narrow("with", v)}
        />
        <Find label="Find in what changed" value={search} onFind={(text) => narrow("search", text)} />
        <Choose
          label="What happened"
          all="Whatever happened"
          value={what}
          of={whats}
          onChoose={(w) => narrow("what", w)}
        />
      </Narrowing>
      <Shown query={comparison}>{(c) => <Differences of={c} search={search} what={what} />}</Shown>
    </Page>
  );
}

function Differences({ of: c, search, what }: { of: Comparison; search: string; what: string }) {
  const meant = c.changes.filter((s) => (!what || s.what === what) && isLike(s, search.toLowerCase()));
  return (
    <>
      <Panel title="At a glance" aside={`${c.same} pieces of software are the same`}>
        <Glance of={c} />
      </Panel>
      {c.changes.length === 0 && (
        <Panel title="Software">
          <Empty>No software differs.</Empty>
        </Panel>
      )}
      {c.changes.length > 0 && meant.length === 0 && <Empty>Nothing that changed is like that.</Empty>}
      {Object.entries(groups).map(([group, title]) => (
        <Group key={group} title={title} changes={meant.filter((s) => s.group === group)} />
      ))}
      <FlawsCompared of={c.flaws} image={c.image} />
      <Lines title="The system" lines={c.facts} />
      <Lines title="The build" lines={c.settings} />
      <Lines title="Steps" lines={c.steps} />
      <Lines title="Seal checks" lines={c.checks} />
    </>
  );
}

function isLike(c: SoftwareChange, text: string): boolean {
  return [c.name, c.was, c.before, c.after, c.summary, ...(c.packages ?? [])].some((s) =>
    s?.toLowerCase().includes(text),
  );
}

/** Both versions side by side, and how much of what changed. */
function Glance({ of: { from, to, counts, flaws } }: { of: Comparison }) {
  const row = (name: string, a?: string | number, b?: string | number) =>
    (a || b) && (
      <Table.Row key={name}>
        <Table.Cell color="fg.quiet">{name}</Table.Cell>
        <Table.Cell>{a}</Table.Cell>
        <Table.Cell>{b}</Table.Cell>
      </Table.Row>
    );
  const took = (seconds?: number) => (seconds ? lasted(seconds) : "");
  const total = (group: keyof typeof groups, what: (typeof whats)[number]) =>
    counts.filter((n) => n.group === group && n.what === what).reduce((sum, n) => sum + n.n, 0);
  return (
    <Flex gap="8" wrap="wrap" align="start">
      <Box minW="min(380px, 100%)" flex="1">
        <List label="Both versions" head={["Version", from.number, to.number]}>
          {row("Standing", from.standing.join(", "), to.standing.join(", "))}
          {row("Sealed", time(from.sealed_at), time(to.sealed_at))}
          {row("Size", size(from.size_bytes), size(to.size_bytes))}
          {row("Software", from.software, to.software)}
          {!flaws.unknown &&
            row("Known flaws", flaws.same + flaws.mends.length, flaws.same + flaws.brings.length)}
          {row("Made from", from.base, to.base)}
          {row("Build took", took(from.build_seconds), took(to.build_seconds))}
          {row("First start took", took(from.first_start_seconds), took(to.first_start_seconds))}
        </List>
      </Box>
      <Box flex="1" minW="min(380px, 100%)">
        <List label="How much changed" head={["Software", ...whats]}>
          {Object.entries(groups).map(([group, title]) => (
            <Table.Row key={group}>
              <Table.Cell>{title}</Table.Cell>
              {whats.map((w) => (
                <Table.Cell key={w} fontVariantNumeric="tabular-nums">
                  {total(group as keyof typeof groups, w) || ""}
                </Table.Cell>
              ))}
            </Table.Row>
          ))}
        </List>
      </Box>
    </Flex>
  );
}

function Group({ title, changes }: { title: string; changes: SoftwareChange[] }) {
  const [all, setAll] = useState(false);
  if (changes.length === 0) return null;
  const shown = all ? changes : changes.slice(0, few);
  return (
    <Panel
      title={title}
      aside={count(
        changes.reduce((n, c) => n + Math.max(1, c.packages?.length ?? 0), 0),
        "piece of software",
        "pieces of software",
      )}
    >
      <List label={title} head={["What", "Software", "Before", "After", "Note"]}>
        {shown.map((c) => (
          <Table.Row key={`${c.origin} ${c.name} ${c.arch} ${c.before} ${c.after}`} verticalAlign="top">
            <Table.Cell w="110px">
              <State of={c.what} />
            </Table.Cell>
            <Table.Cell overflowWrap="anywhere">
              {c.name}
              {c.was && <Text color="fg.quiet">was {c.was}</Text>}
              {!!c.packages?.length && (
                <Text color="fg.quiet" fontSize="sm">
                  {c.packages.join(", ")}
                </Text>
              )}
            </Table.Cell>
            <Table.Cell w="170px" overflowWrap="anywhere">
              {c.before}
            </Table.Cell>
            <Table.Cell w="170px" overflowWrap="anywhere">
              {c.after}
            </Table.Cell>
            <Table.Cell w="260px" overflowWrap="anywhere">
              {c.why || (c.security ? "security fix" : c.summary)}
            </Table.Cell>
          </Table.Row>
        ))}
      </List>
      {shown.length < changes.length && (
        <Button size="xs" variant="outline" mt="2" onClick={() => setAll(true)}>
          {count(changes.length - shown.length, "more line")}
        </Button>
      )}
    </Panel>
  );
}

function Lines({ title, lines }: { title: string; lines: ComparisonLine[] }) {
  if (lines.length === 0) return null;
  return (
    <Panel title={title}>
      <List label={title} head={["What", "Before", "After"]}>
        {lines.map((l) => (
          <Table.Row key={`${l.what} ${l.before} ${l.after}`} verticalAlign="top">
            <Table.Cell w="220px">{l.what}</Table.Cell>
            <Table.Cell overflowWrap="anywhere">{l.before && <Words>{l.before}</Words>}</Table.Cell>
            <Table.Cell overflowWrap="anywhere">{l.after && <Words>{l.after}</Words>}</Table.Cell>
          </Table.Row>
        ))}
      </List>
    </Panel>
  );
}
