import { Table } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, type BuildMachine, call } from "../api";
import { count, lasted, size, time } from "../format";
import { MachineActs } from "../parts/machine-acts";
import { CheckNow, Findings, Repair, useMachineCheck } from "../parts/seal-checks";
import { useSigned } from "../session";
import { Empty, Facts, List, Page, Panel, Shown, State, To } from "../ui";

/** One build machine: what it is, what it can go back to, and whether it is fit to be sealed. */
export function BuildMachinePage() {
  const { site = "", machine = "" } = useParams();
  const { may } = useSigned();
  const query = useQuery({
    queryKey: ["build-machines", site, machine],
    queryFn: () =>
      call(api.GET("/api/v1/sites/{site}/build-machines/{machine}", { params: { path: { site, machine } } })),
    refetchInterval: 30_000, // what it costs grows without an event
  });
  const m = query.data;
  return (
    <Page
      title={`Build machine ${machine}`}
      lead={
        <>
          At <To to={`/sites/${site}`}>{site}</To>
        </>
      }
      actions={m && may("operator") && !m.build && <MachineActs of={m} />}
    >
      <Shown query={query}>
        {(m) => (
          <>
            <Panel title="Machine" aside={<State of={m.state} />}>
              <MachineFacts of={m} />
            </Panel>
            <Checks of={m} />
            <Panel title="Checkpoints">
              {m.checkpoints?.length ? (
                <List label="Checkpoints" head={["Checkpoint", "Made"]}>
                  {m.checkpoints.map((c) => (
                    <Table.Row key={c.name}>
                      <Table.Cell>{c.name}</Table.Cell>
                      <Table.Cell>{time(c.made_at)}</Table.Cell>
                    </Table.Row>
                  ))}
                </List>
              ) : (
                <Empty>It has none. One that is made before something risky is a way back.</Empty>
              )}
            </Panel>
          </>
        )}
      </Shown>
    </Page>
  );
}

function Checks({ of: m }: { of: BuildMachine }) {
  const { may } = useSigned();
  const check = useMachineCheck(m.site, m.name, m.state !== "gone");
  const runs = m.state === "running";
  return (
    <Panel title="Seal checks" aside={runs && <CheckNow site={m.site} machine={m.name} />}>
      <Findings
        of={check.data?.findings ?? []}
        made={check.data?.state === "done"}
        last={
          runs && may("operator")
            ? { head: "Repair", cell: (f) => <Repair of={f} site={m.site} machine={m.name} /> }
            : undefined
        }
      />
    </Panel>
  );
}

function MachineFacts({ of: m }: { of: BuildMachine }) {
  const has = [
    m.cores && count(m.cores, "core"),
    m.memory_bytes && `${size(m.memory_bytes)} of memory`,
    m.disk_bytes && `${size(m.disk_bytes)} of disk`,
  ].filter(Boolean);
  return (
    <Facts
      of={[
        ["Why", m.why],
        ["For", m.purpose],
        ["Build", m.build && <To to={`/builds/${m.build}`}>{String(m.build)}</To>],
        ["Made from", m.base],
        ["Class", m.machine_class],
        ["Has", has.join(", ")],
        ["Asked for", m.owner ? `${time(m.asked_at)} by ${m.owner}` : time(m.asked_at)],
        ["Runs since", time(m.started_at)],
        ["Ran", lasted(m.ran_seconds)],
        ["Cost", m.cost && `${m.cost} ${m.currency}`],
        ["Is discarded", m.discard_at && `${time(m.discard_at)} UTC, unless somebody needs it`],
        ["Gone", time(m.gone_at)],
      ]}
    />
  );
}
