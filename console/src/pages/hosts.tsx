import { Table } from "@chakra-ui/react";
import { api, call } from "../api";
import { time } from "../format";
import { type HostState, hostStates, lookOfHost } from "../panes";
import { Check } from "../parts/fields";
import { Choose, ChoosePool, Find, Narrowing, Pages, useNarrowing, usePages } from "../parts/paged";
import { List, Page, State, To, Words } from "../ui";

/** All hosts, a page at a time. */
export function HostsPage() {
  const [by, set] = useNarrowing(["find", "pool", "state", "version", "drifts"]);
  const hosts = usePages(["host-pages", by], (cursor) =>
    call(
      api.GET("/api/v1/hosts", {
        params: {
          query: {
            find: by.find || undefined,
            pool: by.pool || undefined,
            state: (by.state || undefined) as HostState | undefined,
            version: by.version || undefined,
            drifts: by.drifts ? true : undefined,
            limit: 100,
            cursor,
          },
        },
      }),
    ),
  );
  return (
    <Page title="Hosts" lead="Every machine of every pool.">
      <Narrowing>
        <Find label="Part of a name" value={by.find} onFind={(text) => set("find", text)} />
        <ChoosePool value={by.pool} onChoose={(v) => set("pool", v)} />
        <Choose
          label="State"
          all="All states"
          value={by.state}
          of={hostStates}
          onChoose={(v) => set("state", v)}
        />
        <Check
          checked={!!by.drifts}
          set={(on) => set("drifts", on ? "true" : "")}
          label="Only those that drift"
        />
      </Narrowing>
      <Pages query={hosts} empty="No host is like that." more="Show more hosts">
        {(items) => (
          <List
            label="Hosts"
            head={["Host", "Pool", "State", "Runs", "Should run", "People", "Heard", "Why"]}
          >
            {items.map((h) => (
              <Table.Row key={h.name}>
                <Table.Cell whiteSpace="nowrap">
                  <To to={`/hosts/${h.name}`}>{h.name}</To>
                </Table.Cell>
                <Table.Cell whiteSpace="nowrap">
                  <To to={`/pools/${h.pool}`}>{h.pool}</To>
                </Table.Cell>
                <Table.Cell>
                  <State of={h.state} />
                </Table.Cell>
                <Table.Cell whiteSpace="nowrap">{h.version}</Table.Cell>
                <Table.Cell whiteSpace="nowrap">
                  {h.drifts ? `${h.target}, ${lookOfHost("serving", true).word}` : ""}
                </Table.Cell>
                <Table.Cell whiteSpace="nowrap">{`${h.sessions} of ${h.seats}`}</Table.Cell>
                <Table.Cell whiteSpace="nowrap">{time(h.seen_at) || "never"}</Table.Cell>
                <Table.Cell>
                  <Words>
                    {[h.why, h.drift_reason && `drifts: ${h.drift_reason}`].filter(Boolean).join("; ")}
                  </Words>
                </Table.Cell>
              </Table.Row>
            ))}
          </List>
        )}
      </Pages>
    </Page>
  );
}
