import { Box, Flex, HStack, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { memo, useDeferredValue } from "react";
import { useNavigate, useParams } from "react-router";
import { api, call, type Rollover, type RolloverHost, type TrailEntry } from "../api";
import { count, counts, detail, time } from "../format";
import { lookOfPhase, phaseOrder } from "../panes";
import { Batches } from "../parts/batches";
import { hostsOfRollover, rolloverOf } from "../parts/queries";
import { SomeSessions } from "../parts/session-list";
import { WhereSeen } from "../parts/where-seen";
import { useSigned } from "../session";
import { Act, Facts, List, Page, Panel, Problem, Shown, State, To, Words } from "../ui";

/** What happens now, and what comes next, in sentences. */
function nowAndNext(r: Rollover): [string, string] {
  const phases = r.phases;
  const flying = counts({
    draining: phases.draining ?? 0,
    warned: phases.warned ?? 0,
    emptied: phases.emptied ?? 0,
    rebuilding: phases.rebuilding ?? 0,
    checking: phases.checking ?? 0,
  });
  const queued = phases.queued ?? 0;
  switch (r.state) {
    case "planned":
    case "waiting":
      return [
        r.holds[0] ?? "It is about to start.",
        `Then batches of ${r.batch_size} follow, above a floor of ${count(r.floor_seats, "seat")}.`,
      ];
    case "paused":
      return [
        `Paused: ${r.paused_why || "by hand"}.`,
        "Nothing more is drained until it is resumed; hosts whose disk was gone are finished.",
      ];
    case "running":
      return [
        [flying && `Batch ${r.batch}: ${flying}.`, ...r.holds.map((h) => `Waits: ${h}.`)]
          .filter(Boolean)
          .join(" ") || "It looks for hosts to take.",
        queued
          ? `${count(queued, "host")} still to come, ${r.batch_size} at a time.`
          : "This is the last batch.",
      ];
  }
  return [
    r.settled ? `It ended ${time(r.ended_at)}.` : "It was stopped; hosts whose disk was gone are finished.",
    r.stopped_why && `Stopped: ${r.stopped_why}`,
  ];
}

export function RolloverPage() {
  const written = useParams().id ?? "";
  const id = Number(written);
  if (/^[1-9]\d{0,14}$/.test(written)) return <RolloverOf id={id} />;
  return (
    <Page title="No such rollover">
      <Problem
        error={new Error(`“${written}” is not the number of a rollover. Rollovers are numbered 1, 2, 3.`)}
      />
      <To to="/rollovers">All rollovers</To>
    </Page>
  );
}

function RolloverOf({ id }: { id: number }) {
  const { may } = useSigned();
  const go = useNavigate();
  const path = { params: { path: { id } } };
  const rollover = useQuery(rolloverOf(id));
  const hosts = useQuery(hostsOfRollover(id));
  const act = (verb: "pause" | "resume" | "stop") => (reason: string) =>
    call(api.POST(`/api/v1/rollovers/{id}/${verb}`, { ...path, body: { reason } }));
  const r = rollover.data;
  const open = r && !["finished", "stopped"].includes(r.state);
  return (
    <Page
      title={`Rollover ${id}`}
      lead={
        r && (
          <HStack gap="2" wrap="wrap">
            <State of={r.state} />
            <To to={`/pools/${r.pool}`}>{r.pool}</To> to{" "}
            <To to={`/images/${r.image}`}>{`${r.image} ${r.version}`}</To>
            {r.reverses > 0 && <To to={`/rollovers/${r.reverses}`}>{`reverses rollover ${r.reverses}`}</To>}
          </HStack>
        )
      }
      actions={
        r &&
        may("operator") && (
          <>
            {r.state === "running" && (
              <Act
                label="Pause"
                title={`Pause rollover ${id}`}
                reason="wanted"
                button={{ size: "sm" }}
                run={act("pause")}
                done="Paused."
              />
            )}
            {r.state === "paused" && (
              <Act
                label="Resume"
                title={`Resume rollover ${id}`}
                reason="wanted"
                button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
                run={act("resume")}
                done="It goes on."
              >
                The failures so far no longer count against the failure budget. People on draining hosts are
                warned anew.
              </Act>
            )}
            {open && (
              <Act
                label="Stop"
                title={`Stop rollover ${id}`}
                reason="wanted"
                danger
                button={{ size: "sm" }}
                run={act("stop")}
                done="Stopped."
              >
                Drained hosts that have their old disk go back to service; those whose disk is gone are
                finished.
              </Act>
            )}
            {(r.phases.done ?? 0) +
              (r.phases.rebuilding ?? 0) +
              (r.phases.checking ?? 0) +
              (r.phases.failed ?? 0) >
              0 && (
              <Act
                label="Reverse"
                title={`Reverse rollover ${id}`}
                reason="needed"
                danger
                button={{ size: "sm" }}
                done="A reversal has begun."
                run={async (reason) => {
                  const back = await call(
                    api.POST("/api/v1/rollovers/{id}/reverse", { ...path, body: { reason } }),
                  );
                  void go(`/rollovers/${back.id}`);
                }}
              >
                It is stopped, and the hosts that it has done or has in flight go back to the version that
                they ran before. The others stay as they are.
              </Act>
            )}
          </>
        )
      }
    >
      <Shown query={rollover}>
        {(r) => {
          const [now, next] = nowAndNext(r);
          return (
            <Panel>
              <Progress of={r} />
              <Flex gap="10" mt="3" wrap="wrap">
                <Box flex="2" minW="min(300px, 100%)">
                  <Facts
                    of={[
                      ["Now", now],
                      ["Next", next],
                      ["Reason", r.reason],
                    ]}
                  />
                </Box>
                <Box flex="1" minW="min(260px, 100%)">
                  <Facts
                    of={[
                      ["Batches", `of ${count(r.batch_size, "host")} (${r.options.batch})`],
                      ["Floor", `${count(r.floor_seats, "seat")} (${r.options.floor})`],
                      [
                        "People",
                        r.options.log_off === "warn"
                          ? `warned, signed off after ${r.options.grace}`
                          : `waited for${r.options.deadline && r.options.deadline !== "0s" ? `, warned after ${r.options.deadline}` : ""}`,
                      ],
                      ["Failure budget", count(r.options.failure_budget ?? 0, "host")],
                      ["Planned", `${time(r.created_at)} by ${r.created_by}`],
                      ["Started", time(r.started_at)],
                      ["Ended", time(r.ended_at)],
                    ]}
                  />
                </Box>
              </Flex>
            </Panel>
          );
        }}
      </Shown>
      <Panel title="Hosts by batch">
        <Shown query={hosts}>
          {({ items }) => (
            <>
              <Batches hosts={items} onOpen={(host) => void go(`/pools/${r?.pool}?host=${host}`)} />
              <Reasons of={items.filter((h) => h.why && (h.phase === "failed" || h.phase === "left"))} />
            </>
          )}
        </Shown>
      </Panel>
      {r && open && (
        <WhereSeen>
          <SomeSessions title="People still on draining hosts" pool={r.pool} on="draining" none="Nobody." />
        </WhereSeen>
      )}
      <WhereSeen>
        <Log id={id} />
      </WhereSeen>
    </Page>
  );
}

/** How many hosts are in which phase, as a bar and in words. */
function Progress({ of: r }: { of: Rollover }) {
  return (
    <Box>
      <Flex h="14px" rounded="sm" overflow="hidden" borderWidth="1px" borderColor="line" aria-hidden>
        {phaseOrder.map(
          (p) =>
            r.phases[p] > 0 && (
              <Box
                key={p}
                flexGrow={r.phases[p]}
                backgroundColor={`pane.${lookOfPhase(p).fill}`}
                borderColor="fg.quiet"
              />
            ),
        )}
      </Flex>
      <Text mt="1" fontSize="sm">
        {count(r.total, "host")}: {counts(r.phases)}
      </Text>
    </Box>
  );
}

function Reasons({ of: hosts }: { of: RolloverHost[] }) {
  const groups = new Map<string, string[]>();
  for (const h of hosts) {
    const key = `${h.phase}: ${h.why}`;
    groups.set(key, [...(groups.get(key) ?? []), h.host]);
  }
  return [...groups].map(([why, names]) => (
    <Text key={why} fontSize="sm" mt="1">
      <b>
        {names.length > 4 ? `${names.slice(0, 4).join(", ")} and ${names.length - 4} more` : names.join(", ")}
      </b>{" "}
      <Words>{why}</Words>
    </Text>
  ));
}

/** An entry never changes: while ten come in a second, those that are there are not drawn again. */
const Entry = memo(
  function Entry({ of: e }: { of: TrailEntry }) {
    return (
      <Table.Row>
        <Table.Cell whiteSpace="nowrap">{time(e.at)}</Table.Cell>
        <Table.Cell>{e.verb}</Table.Cell>
        <Table.Cell>{e.subject}</Table.Cell>
        <Table.Cell>{e.actor}</Table.Cell>
        <Table.Cell>
          <Words>{e.reason || detail(e.detail)}</Words>
        </Table.Cell>
      </Table.Row>
    );
  },
  (a, b) => a.of.seq === b.of.seq,
);

/** Entries are drawn bit by bit, when the page has nothing better to do. */
function Entries({ of }: { of: TrailEntry[] }) {
  const entries = useDeferredValue(of, []);
  return (
    <List label="Log" head={["At", "What", "Of", "By", "Why"]}>
      {entries.map((e) => (
        <Entry key={e.seq} of={e} />
      ))}
    </List>
  );
}

const Log = memo(function Log({ id }: { id: number }) {
  const log = useQuery({
    queryKey: ["trail", "rollover", id],
    queryFn: () =>
      call(api.GET("/api/v1/trail", { params: { query: { scope: `rollover ${id}`, limit: 40 } } })),
  });
  return (
    <Panel title="Log" aside="newest first, from the trail">
      <Shown query={log}>{({ items }) => <Entries of={items} />}</Shown>
    </Panel>
  );
});
