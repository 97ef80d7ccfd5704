import { Box, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Fragment } from "react";
import { useParams } from "react-router";
import { api, type BuildStep, call, type WholeBuild } from "../api";
import { count, duration, lasted, span, time } from "../format";
import { BuildLog } from "../parts/build-log";
import { HeldBuild, HoldBuild } from "../parts/held-build";
import { CheckNow, Findings, Repair } from "../parts/seal-checks";
import { useSigned } from "../session";
import { Act, Facts, List, Page, Panel, Shown, State, To, Words } from "../ui";

/** One build: what it is made of, its steps, and what the seal checks found. */
export function BuildPage() {
  const id = Number(useParams().build);
  const { may } = useSigned();
  const build = useQuery({
    queryKey: ["builds", id],
    queryFn: () => call(api.GET("/api/v1/builds/{id}", { params: { path: { id } } })),
  });
  const b = build.data;
  return (
    <Page
      title={`Build ${id}`}
      lead={
        b && (
          <>
            Makes a version of <To to={`/images/${b.image}`}>{b.image}</To> at{" "}
            <To to={`/sites/${b.site}`}>{b.site}</To>
          </>
        )
      }
      actions={
        b &&
        may("operator") &&
        (isHeld(b) ? (
          <HeldBuild build={b} />
        ) : !b.cancel && early.includes(b.state) ? (
          <>
            <HoldBuild build={b} label="Hold its machine if it fails" />
            <Act
              label="Cancel the build"
              title={`Cancel build ${id}`}
              reason="wanted"
              danger
              run={(reason) =>
                call(api.POST("/api/v1/builds/{id}/cancel", { params: { path: { id } }, body: { reason } }))
              }
            >
              Its machine is discarded with what was done on it.
            </Act>
          </>
        ) : null)
      }
    >
      <Shown query={build}>
        {(b) => (
          <>
            <Panel title="Build" aside={<State of={b.state} />}>
              <BuildFacts of={b} />
            </Panel>
            <Panel title="Steps" aside={`${b.done} of ${b.total} are done`}>
              <Steps of={b.steps} />
            </Panel>
            <BuildLog build={b.id} over={over.includes(b.state)} />
            <Panel title="Seal checks" aside={isHeld(b) && <CheckNow site={b.site} machine={b.machine} />}>
              <Findings
                of={b.findings}
                made={b.checked}
                last={
                  isHeld(b) && may("operator")
                    ? { head: "Repair", cell: (f) => <Repair of={f} site={b.site} machine={b.machine} /> }
                    : undefined
                }
              />
            </Panel>
            <Panel title="Sheet">
              <Box as="pre" fontFamily="mono" fontSize="sm" overflowX="auto" tabIndex={0}>
                {b.sheet}
              </Box>
            </Panel>
          </>
        )}
      </Shown>
    </Page>
  );
}

/** Its machine is held, so that somebody can look at it. */
const isHeld = (b: WholeBuild) => !!b.held_until && !b.settled && b.state === "failed";

/** Until then a build can be cancelled. */
const early: WholeBuild["state"][] = ["queued", "preparing", "working", "checking", "sealing"];

/** Then nothing is added to its log. */
const over: WholeBuild["state"][] = ["ready", "failed", "cancelled"];

function BuildFacts({ of: b }: { of: WholeBuild }) {
  return (
    <Facts
      of={[
        ["Why", b.why],
        [
          "Is ready",
          b.expected?.ready_at &&
            `about ${time(b.expected.ready_at)}, at worst ${time(b.expected.ready_by)}, as ${count(b.expected.builds, "build")} before it`,
        ],
        ["Warning", b.expected?.tight],
        ["Being cancelled", b.state === "cancelled" ? "" : b.cancel],
        [
          "Version",
          b.version && <To to={`/images/${b.image}/versions/${b.version}`}>{`${b.image} ${b.version}`}</To>,
        ],
        ["From", b.base],
        ["Sheet", b.sheet_name && <To to={`/sheets/${b.sheet_name}`}>{b.sheet_name}</To>],
        ["Commit", b.commit],
        [
          "Parameters",
          Object.entries(b.values ?? {})
            .map(([name, value]) => `${name} = ${value}`)
            .join(", "),
        ],
        [
          "Machine",
          <Fragment key="machine">
            <To to={`/build-machines/${b.site}/${b.machine}`}>{b.machine}</To>
            {b.settled ? ", discarded" : b.held_until && `, held until ${time(b.held_until)}`}
          </Fragment>,
        ],
        [
          "If it fails",
          b.ended_at || !b.hold_seconds ? "" : `its machine is held for ${lasted(b.hold_seconds)}`,
        ],
        ["Pilot", b.rolled],
        ["Started", `${time(b.started_at)} by ${b.started_by}`],
        ["Went on", time(b.went_on_at)],
        ["Ended", time(b.ended_at)],
      ]}
    />
  );
}

function Steps({ of: steps }: { of: BuildStep[] }) {
  return (
    <List label="Steps" head={["No", "Step", "Does", "State", "Tries", "Took", "Last time", "Came to"]}>
      {steps.map((s, i) => (
        <Table.Row key={s.name} verticalAlign="top">
          <Table.Cell>{i + 1}</Table.Cell>
          <Table.Cell>{s.name}</Table.Cell>
          <Table.Cell>{s.kind}</Table.Cell>
          <Table.Cell>
            <State of={s.state} />
          </Table.Cell>
          <Table.Cell>{s.attempts || ""}</Table.Cell>
          <Table.Cell whiteSpace="nowrap">{duration(s.began_at, s.ended_at)}</Table.Cell>
          <Table.Cell whiteSpace="nowrap" color="fg.quiet">
            {s.last_seconds ? span(s.last_seconds) : ""}
          </Table.Cell>
          <Table.Cell w="40%">
            {s.why && <Words>{s.why}</Words>}
            {s.output && (s.state === "failed" || s.state === "noted") && (
              <Text
                as="pre"
                fontFamily="mono"
                fontSize="xs"
                color="fg.quiet"
                overflowX="auto"
                maxH="12em"
                tabIndex={0}
              >
                {s.output.trimEnd()}
              </Text>
            )}
          </Table.Cell>
        </Table.Row>
      ))}
    </List>
  );
}
