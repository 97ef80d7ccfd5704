import { Progress, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, call, type Hypervisor } from "../api";
import { count, size, time } from "../format";
import { allowedTo, Deliveries } from "../parts/deliveries";
import { MakeBuildMachine } from "../parts/make-build-machine";
import { useSigned } from "../session";
import { Empty, Facts, List, Page, Panel, Problem, Shown, State, To } from "../ui";

export function SitePage() {
  const name = useParams().site ?? "";
  const { may } = useSigned();
  const site = useQuery({
    queryKey: ["sites", name],
    queryFn: () => call(api.GET("/api/v1/sites/{site}", { params: { path: { site: name } } })),
    refetchInterval: 5_000, // its computers send no events
  });
  const machines = site.data?.hypervisors ?? [];
  return (
    <Page title={name} lead={site.data?.title} actions={may("operator") && <MakeBuildMachine site={name} />}>
      <Shown query={site}>
        {(s) => (
          <>
            {s.trouble && (
              <Problem
                error={
                  new Error(
                    `It has not answered since ${time(s.trouble_since)} UTC, and is asked again at growing intervals: ${s.trouble}`,
                  )
                }
              />
            )}
            {s.unreachable && <Problem error={new Error(s.unreachable)} />}
            <Panel title="Site">
              <Facts
                of={[
                  ["Platform", s.platform],
                  ["Address", s.address],
                  ["Pools", `${s.pools} with ${count(s.hosts, "host")}`],
                  ["Clones at once", `${s.clones_per_copy} from one copy`],
                  ["Starts", `${s.starts_per_minute} a minute at most`],
                  ["Deliveries", allowedTo(s.deliveries)],
                ]}
              />
            </Panel>
            <Deliveries of={{ site: name }} />
            {machines.length > 0 && <Hypervisors of={machines} />}
            <Panel title="Build machines">
              {s.build_machines.length === 0 ? (
                <Empty>No build machine is here.</Empty>
              ) : (
                <List label="Build machines" head={["Machine", "Class", "State", "Made from", "Display"]}>
                  {s.build_machines.map((m) => (
                    <Table.Row key={m.name}>
                      <Table.Cell fontWeight="500">{m.name}</Table.Cell>
                      <Table.Cell>{m.machine_class}</Table.Cell>
                      <Table.Cell>
                        <State of={m.state} />
                      </Table.Cell>
                      <Table.Cell>
                        {m.base}
                        {m.changes && (
                          <Text color="fg.quiet" fontSize="sm">
                            {m.changes}
                          </Text>
                        )}
                      </Table.Cell>
                      <Table.Cell>{m.display}</Table.Cell>
                    </Table.Row>
                  ))}
                </List>
              )}
              <Text mt="2">
                <To to="/build-machines">What they are for and have cost</To>
              </Text>
            </Panel>
          </>
        )}
      </Shown>
    </Page>
  );
}

/** How much of something is used, as a bar with its figures. What is shared may be given out more than once. */
function Used(props: { what: string; used: number; of: number; text: string; shared?: boolean }) {
  const { what, used, of, text, shared } = props;
  return (
    <Progress.Root
      value={Math.min(100, of ? (100 * used) / of : 0)}
      size="xs"
      minW="150px"
      whiteSpace="nowrap"
      colorPalette={!shared && used > 0.9 * of ? "orange" : "deep"}
      aria-label={what}
    >
      <Progress.Label fontSize="sm" fontVariantNumeric="tabular-nums">
        {text}
      </Progress.Label>
      <Progress.Track>
        <Progress.Range />
      </Progress.Track>
    </Progress.Root>
  );
}

function Hypervisors({ of: nodes }: { of: Hypervisor[] }) {
  return (
    <Panel title="Hypervisors">
      <List label="Hypervisors" head={["Hypervisor", "Cores", "Memory", "Storage", "Machines"]}>
        {nodes.map((n) => (
          <Table.Row key={n.name}>
            <Table.Cell>
              <Text fontWeight="500">{n.name}</Text>
              <Text color="fg.quiet" fontSize="sm">
                {n.unreachable ? "" : `${n.software}, ${n.acceleration}`}
              </Text>
              <Text color="fg.quiet" fontSize="xs" overflowWrap="anywhere">
                {n.address}
              </Text>
            </Table.Cell>
            {n.unreachable ? (
              <Table.Cell colSpan={4}>{n.unreachable}</Table.Cell>
            ) : (
              <>
                <Table.Cell>
                  <Used
                    what={`Cores of ${n.name}`}
                    used={n.cores_used}
                    of={n.cores}
                    shared
                    text={`${n.cores_used} given out of ${n.cores}`}
                  />
                </Table.Cell>
                <Table.Cell>
                  <Used
                    what={`Memory of ${n.name}`}
                    used={n.memory_used_bytes}
                    of={n.memory_bytes}
                    text={`${size(n.memory_used_bytes) || "none"} of ${size(n.memory_bytes)}`}
                  />
                </Table.Cell>
                <Table.Cell>
                  <Used
                    what={`Storage of ${n.name}`}
                    used={n.storage_bytes - n.storage_free_bytes}
                    of={n.storage_bytes}
                    text={`${size(n.storage_free_bytes) || "none"} free of ${size(n.storage_bytes)}`}
                  />
                  <Text color="fg.quiet" fontSize="xs" mt="1">
                    {n.storage_path}, {n.delivery}
                  </Text>
                </Table.Cell>
                <Table.Cell>
                  {n.machines}
                  {n.others > 0 && (
                    <Text color="fg.quiet" fontSize="sm">
                      and {n.others} that are not ours
                    </Text>
                  )}
                </Table.Cell>
              </>
            )}
          </Table.Row>
        ))}
      </List>
    </Panel>
  );
}
