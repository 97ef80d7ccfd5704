import { Box } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, call, type Machine } from "../api";
import { count, size } from "../format";
import { HostActs, HostFacts, HostSessions } from "../parts/host-parts";
import { MakeBuildMachine } from "../parts/make-build-machine";
import { useSigned } from "../session";
import { Facts, Page, Panel, Shown, State, To } from "../ui";

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
      actions={
        host.data &&
        may("operator") && (
          <>
            <HostActs host={host.data} />
            {["serving", "draining", "emptied"].includes(host.data.state) && (
              <MakeBuildMachine site={host.data.site} host={name} />
            )}
          </>
        )
      }
    >
      <Shown query={host}>
        {(h) => (
          <>
            <Panel title="Host" aside={<State of={h.state} />}>
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
    <Panel title="Machine" aside={m.state && <State of={m.state} />}>
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
