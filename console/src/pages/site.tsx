import { Field, HStack, Input, NativeSelect, Progress, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { api, type BuildMachine, call, type Hypervisor, type Site } from "../api";
import { count, size, time } from "../format";
import { useSigned } from "../session";
import { Act, Empty, Facts, FormDialog, List, Page, Panel, Problem, Shown, State } from "../ui";

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
    <Page
      title={name}
      lead={site.data?.title}
      actions={machines.length > 0 && may("operator") && <CreateBuildMachine site={name} />}
    >
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
                ]}
              />
            </Panel>
            {machines.length > 0 && <Hypervisors of={machines} />}
            <Panel title="Build machines">
              {s.build_machines.length === 0 ? (
                <Empty>No build machine is here.</Empty>
              ) : (
                <List
                  label="Build machines"
                  head={["Machine", "Class", "State", "Made from", "Display", "Acts"]}
                >
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
                      <Table.Cell textAlign="end">
                        {machines.length > 0 && may("operator") && <BuildMachineActs site={s} machine={m} />}
                      </Table.Cell>
                    </Table.Row>
                  ))}
                </List>
              )}
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
                    {n.storage_path}
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

function BuildMachineActs({ site, machine: m }: { site: Site; machine: BuildMachine }) {
  const at = { params: { path: { site: site.name, machine: m.name } } };
  if (m.state === "capturing") return null;
  return (
    <HStack justify="end">
      {m.state === "off" ? (
        <Act
          label="Start"
          title={`Start ${m.name}`}
          done={`${m.name} is starting.`}
          run={() => call(api.POST("/api/v1/sites/{site}/build-machines/{machine}/start", at))}
        >
          It runs until it is stopped or captured.
        </Act>
      ) : (
        <Act
          label="Stop"
          title={`Stop ${m.name}`}
          done={`${m.name} is off.`}
          run={() => call(api.POST("/api/v1/sites/{site}/build-machines/{machine}/stop", at))}
        >
          It is asked to shut down, which takes a moment.
        </Act>
      )}
      <Act
        label="Discard"
        title={`Discard ${m.name}`}
        danger
        done={`${m.name} is discarded.`}
        run={() => call(api.DELETE("/api/v1/sites/{site}/build-machines/{machine}", at))}
      >
        All that was done on it and not captured is lost.
      </Act>
    </HStack>
  );
}

function CreateBuildMachine({ site }: { site: string }) {
  const [name, setName] = useState("");
  const [from, setFrom] = useState(""); // "image number", or "" for a base disk
  const [disk, setDisk] = useState("");
  const [machineClass, setMachineClass] = useState("");
  const images = useQuery({ queryKey: ["images"], queryFn: () => call(api.GET("/api/v1/images")) });
  const versions = (images.data?.items ?? []).flatMap((i) => {
    const named = i.tracks.map((t) => t.version).filter((v) => v);
    return [...new Set(named)].map((v) => `${i.name} ${v}`);
  });
  const [image, version] = from.split(" ");
  return (
    <FormDialog
      label="Make a build machine"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      title={`Make a build machine at ${site}`}
      done={`${name} was made. It is off.`}
      submit={() =>
        call(
          api.POST("/api/v1/sites/{site}/build-machines", {
            params: { path: { site } },
            body: from
              ? { name, image, version }
              : { name, base_disk: disk.trim(), machine_class: machineClass.trim() },
          }),
        )
      }
    >
      <Field.Root required>
        <Field.Label>Name</Field.Label>
        <Input value={name} onChange={(e) => setName(e.target.value)} placeholder="bm-december" />
      </Field.Root>
      <Field.Root>
        <Field.Label>Made from</Field.Label>
        <NativeSelect.Root>
          <NativeSelect.Field value={from} onChange={(e) => setFrom(e.target.value)}>
            <option value="">a base disk</option>
            {versions.map((v) => (
              <option key={v} value={v}>
                {v}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Field.Root>
      {!from && (
        <>
          <Field.Root required>
            <Field.Label>Base disk</Field.Label>
            <Input value={disk} onChange={(e) => setDisk(e.target.value)} placeholder="debian.qcow2" />
            <Field.HelperText>Name of a disk in the site's storage</Field.HelperText>
          </Field.Root>
          <Field.Root required>
            <Field.Label>Machine class</Field.Label>
            <Input
              value={machineClass}
              onChange={(e) => setMachineClass(e.target.value)}
              placeholder="standard"
            />
          </Field.Root>
        </>
      )}
    </FormDialog>
  );
}
