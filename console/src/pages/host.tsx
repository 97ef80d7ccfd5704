import { Box, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, call, type Host, type Machine } from "../api";
import { count, size, time } from "../format";
import { useSigned } from "../session";
import { Act, Empty, Facts, Page, Panel, Shown, State, To } from "../ui";
import { SessionList } from "./sessions";

export function HostPage() {
  const name = useParams().host ?? "";
  const { may } = useSigned();
  const host = useQuery({
    queryKey: ["hosts", "one", name],
    queryFn: () => call(api.GET("/api/v1/hosts/{host}", { params: { path: { host: name } } })),
  });
  return (
    <Page
      title={name}
      lead={
        host.data && (
          <>
            Host of <To to={`/pools/${host.data.pool}`}>{host.data.pool}</To> at{" "}
            <To to={`/sites/${host.data.site}`}>{host.data.site}</To>
          </>
        )
      }
      actions={host.data && may("operator") && <HostActs host={host.data} />}
    >
      <Shown query={host}>
        {(h) => (
          <>
            <Panel title="Host" aside={<State>{h.state}</State>}>
              <HostFacts host={h} />
            </Panel>
            {h.machine && <MachinePanel machine={h.machine} />}
            <Panel title="People">
              <HostSessions host={h.name} />
            </Panel>
          </>
        )}
      </Shown>
    </Page>
  );
}

/** What the host's platform says of its machine. */
function MachinePanel({ machine: m }: { machine: Machine }) {
  return (
    <Panel title="Machine" aside={m.state && <State>{m.state}</State>}>
      <Facts
        of={[
          ["Wrong with it", m.why],
          ["On", m.node],
          ["Called there", m.name],
          ["Has", m.cores ? `${count(m.cores, "core")}, ${size(m.memory_bytes)} of memory` : ""],
          ["Network", m.network],
          ["Display", m.display],
          [
            "Disk",
            m.disks.length > 0 && (
              <Box as="ol" fontFamily="mono" fontSize="sm">
                {m.disks.map((d, i) => (
                  <li key={d}>
                    {i > 0 && "made on "}
                    {d}
                  </li>
                ))}
              </Box>
            ),
          ],
        ]}
      />
    </Panel>
  );
}

export function HostSessions({ host }: { host: string }) {
  const sessions = useQuery({
    queryKey: ["sessions", "host", host],
    queryFn: () => call(api.GET("/api/v1/sessions", { params: { query: { host } } })),
  });
  return (
    <Shown query={sessions}>
      {({ items }) => (items.length ? <SessionList sessions={items} /> : <Empty>Nobody is signed in.</Empty>)}
    </Shown>
  );
}

export function HostFacts({ host: h }: { host: Host }) {
  return (
    <Facts
      of={[
        ["Since", time(h.since)],
        ["Why", h.why],
        ["Drained by", h.drained_by],
        ["Runs", h.version],
        ["Its agent reports", h.stamp],
        ["Should run", h.drifts ? `${h.target} (it drifts)` : h.target],
        ["Checks", `${h.checks} ${h.checks_why}`.trim()],
        ["Last heard", h.seen_at ? time(h.seen_at) : "never"],
        ["Load", h.load.toFixed(2)],
      ]}
    />
  );
}

/** What can be done with a host now. */
export function HostActs({ host: h }: { host: Host }) {
  const at = { params: { path: { host: h.name } } };
  const faulty = h.state === "faulty";
  return (
    <>
      {h.state === "serving" && (
        <Act
          label="Drain"
          title={`Drain ${h.name}`}
          reason="wanted"
          done={`${h.name} drains.`}
          run={(reason) => call(api.POST("/api/v1/hosts/{host}/drain", { ...at, body: { reason } }))}
        >
          It takes no new sessions; those there go on.
        </Act>
      )}
      {["draining", "emptied", "faulty"].includes(h.state) && (
        <Act
          label="Return"
          title={`Return ${h.name} to service`}
          reason={faulty ? "needed" : "wanted"}
          done={`${h.name} serves.`}
          run={(reason) => call(api.POST("/api/v1/hosts/{host}/return", { ...at, body: { reason } }))}
        />
      )}
      <Rebuild host={h} />
    </>
  );
}

function Rebuild({ host: h }: { host: Host }) {
  const [vouch, setVouch] = useState(false);
  const faulty = h.state === "faulty";
  return (
    <Act
      label="Rebuild"
      title={`Rebuild ${h.name}`}
      reason={vouch ? "needed" : "wanted"}
      danger
      done={`A rollover rebuilds ${h.name}.`}
      run={(reason) =>
        call(
          api.POST("/api/v1/hosts/{host}/rebuild", {
            params: { path: { host: h.name } },
            body: { reason, vouch_empty: vouch },
          }),
        )
      }
    >
      <Text>
        It drains, its people leave, its disk is thrown away and made anew of{" "}
        {h.target || "the version it should run"}, it is checked and put back.
      </Text>
      {faulty && (
        <label>
          <input type="checkbox" checked={vouch} onChange={(e) => setVouch(e.target.checked)} /> I have made
          sure that nobody is on it
        </label>
      )}
    </Act>
  );
}
