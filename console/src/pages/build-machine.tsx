import { HStack, Input, Link, Table } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, type BuildMachine, call } from "../api";
import { count, lasted, size, time } from "../format";
import { Labelled } from "../parts/fields";
import { MachineActs } from "../parts/machine-acts";
import { OpenApplications } from "../parts/open-applications";
import { CheckNow, Findings, Repair, useMachineCheck } from "../parts/seal-checks";
import { TakeOver } from "../parts/take-over";
import { useSigned } from "../session";
import { Empty, Facts, FormDialog, List, Page, Panel, Shown, State, To, Words } from "../ui";

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
      actions={m && may("operator") && !m.build && <MachineActs of={m} finish />}
    >
      <Shown query={query}>
        {(m) => (
          <>
            <Panel title="Machine" aside={<State of={m.state} />}>
              <MachineFacts of={m} />
            </Panel>
            <Checks of={m} />
            <Notes of={m} />
            <Tries of={m} />
            <OpenApplications of={m} />
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

function Notes({ of: m }: { of: BuildMachine }) {
  const { may } = useSigned();
  const queries = useQueryClient();
  const [text, setText] = useState("");
  return (
    <Panel
      title="Notes"
      aside={
        may("operator") &&
        m.state !== "gone" && (
          <FormDialog
            label="Write a note"
            title={`Write a note on ${m.name}`}
            onOpen={() => setText("")}
            submit={async () => {
              await call(
                api.POST("/api/v1/sites/{site}/build-machines/{machine}/notes", {
                  params: { path: { site: m.site, machine: m.name } },
                  body: { text: text.trim() },
                }),
              );
              await queries.invalidateQueries({ queryKey: ["build-machines"] });
            }}
          >
            <Labelled label="What you did, or saw" required help="It becomes part of the version's notes.">
              <Input value={text} maxLength={500} onChange={(e) => setText(e.target.value)} />
            </Labelled>
          </FormDialog>
        )
      }
    >
      {m.notes?.length ? (
        <List label="Notes" head={["At", "By", "Note"]}>
          {m.notes.map((n) => (
            <Table.Row key={`${n.at} ${n.text}`}>
              <Table.Cell whiteSpace="nowrap">{time(n.at)}</Table.Cell>
              <Table.Cell>{n.by}</Table.Cell>
              <Table.Cell w="70%">{n.text}</Table.Cell>
            </Table.Row>
          ))}
        </List>
      ) : (
        <Empty>Nobody wrote one down yet.</Empty>
      )}
    </Panel>
  );
}

/** The steps of sheets that were tried on the machine; none, and no panel, on most. */
function Tries({ of: m }: { of: BuildMachine }) {
  const at = { params: { path: { site: m.site, machine: m.name } } };
  const tries = useQuery({
    queryKey: ["build-machines", m.site, m.name, "tries"],
    queryFn: () => call(api.GET("/api/v1/sites/{site}/build-machines/{machine}/tries", at)),
  });
  const { may } = useSigned();
  const list = tries.data?.items ?? [];
  const works = may("operator") && m.state === "running";
  if (list.length === 0 && !works) return null;
  return (
    <Panel
      title="Steps that were tried"
      aside={
        <HStack>
          {list.length > 0 && (
            <Link href={`/api/v1/sites/${m.site}/build-machines/${m.name}/sheet.yaml`} color="deep.fg">
              What went well, as a sheet
            </Link>
          )}
          {works && <TakeOver of={m} />}
        </HStack>
      }
    >
      {list.length === 0 && (
        <Empty>None was tried yet: a sheet's page tries them, and the client does.</Empty>
      )}
      {list.length > 0 && (
        <List label="Steps that were tried" head={["At", "Step", "Does", "State", "Came to"]}>
          {list.map((t) => (
            <Table.Row key={t.asked_at} verticalAlign="top">
              <Table.Cell whiteSpace="nowrap">{time(t.asked_at)}</Table.Cell>
              <Table.Cell>{t.step}</Table.Cell>
              <Table.Cell>{t.kind}</Table.Cell>
              <Table.Cell>{t.state}</Table.Cell>
              <Table.Cell w="50%">{t.why && <Words>{t.why}</Words>}</Table.Cell>
            </Table.Row>
          ))}
        </List>
      )}
    </Panel>
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
        [
          "Host",
          m.from_host && (
            <>
              <To to={`/hosts/${m.from_host}`}>{m.from_host}</To>
              {m.state === "waiting" && ": its disk is copied when nobody is on it any more"}
            </>
          ),
        ],
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
