import { Table, Text } from "@chakra-ui/react";
import { api, call } from "../api";
import { count, lasted, size, time } from "../format";
import { MachineActs } from "../parts/machine-acts";
import { MakeBuildMachine } from "../parts/make-build-machine";
import { Pages, usePages } from "../parts/paged";
import { useSigned } from "../session";
import { List, Page, State, To } from "../ui";

export function BuildMachinesPage() {
  const { may } = useSigned();
  const machines = usePages(
    ["build-machines"],
    (cursor) => call(api.GET("/api/v1/build-machines", { params: { query: { limit: 50, cursor } } })),
    30_000, // what they cost grows without an event
  );
  return (
    <Page
      title="Build machines"
      lead="Machines that versions are made on. They cost money while they run."
      actions={may("operator") && <MakeBuildMachine />}
    >
      <Pages query={machines} empty="No build machine is there." more="Show older ones">
        {(items) => (
          <List
            label="Build machines"
            head={[
              "Machine",
              "Site",
              "State",
              "For",
              "Made from",
              "Class",
              "By",
              "Since",
              "Ran",
              "Cost",
              "Acts",
            ]}
          >
            {items.map((m) => (
              <Table.Row key={m.id}>
                <Table.Cell fontWeight="500">
                  <To to={`/build-machines/${m.site}/${m.name}`}>{m.name}</To>
                </Table.Cell>
                <Table.Cell>
                  <To to={`/sites/${m.site}`}>{m.site}</To>
                </Table.Cell>
                <Table.Cell>
                  <State of={m.state} />
                </Table.Cell>
                <Table.Cell>
                  {m.build ? <To to={`/builds/${m.build}`}>{m.purpose ?? ""}</To> : m.purpose}
                  {m.why && (
                    <Text color="fg.quiet" fontSize="sm">
                      {m.why}
                    </Text>
                  )}
                  {!!m.notices && (
                    <Text color="fg.quiet" fontSize="sm">
                      It is discarded on {time(m.discard_at)} UTC, unless somebody needs it.
                    </Text>
                  )}
                </Table.Cell>
                <Table.Cell>{m.base}</Table.Cell>
                <Table.Cell>
                  {m.machine_class}
                  <Text color="fg.quiet" fontSize="sm">
                    {[
                      m.cores && count(m.cores, "core"),
                      m.memory_bytes && `${size(m.memory_bytes)} of memory`,
                      m.disk_bytes && `${size(m.disk_bytes)} of disk`,
                    ]
                      .filter(Boolean)
                      .join(", ")}
                  </Text>
                </Table.Cell>
                <Table.Cell>{m.owner}</Table.Cell>
                <Table.Cell whiteSpace="nowrap">{time(m.asked_at)}</Table.Cell>
                <Table.Cell whiteSpace="nowrap">{lasted(m.ran_seconds)}</Table.Cell>
                <Table.Cell whiteSpace="nowrap">{m.cost && `${m.cost} ${m.currency}`}</Table.Cell>
                <Table.Cell textAlign="end">
                  {may("operator") && !m.build && <MachineActs of={m} />}
                </Table.Cell>
              </Table.Row>
            ))}
          </List>
        )}
      </Pages>
    </Page>
  );
}
