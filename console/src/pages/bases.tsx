import { Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call } from "../api";
import { size, time } from "../format";
import { BringBase, Coming } from "../parts/bring-base";
import { Feeds, Releases, titled } from "../parts/feeds";
import { useSigned } from "../session";
import { Empty, List, Page, Panel, Shown, State, To } from "../ui";

/** Disk images that versions are made from: those that are coming first, with how far they are. */
export function BasesPage() {
  const { may } = useSigned();
  const bases = useQuery({ queryKey: ["bases"], queryFn: () => call(api.GET("/api/v1/bases")) });
  return (
    <Page
      title="Bases"
      lead="Disk images that versions are made from, as vendors release them or somebody else made them."
      actions={may("operator") && <BringBase />}
    >
      <Shown query={bases}>
        {({ items }) => {
          const coming = items.filter((b) => ["receiving", "fetching", "converting"].includes(b.state));
          const there = items.filter((b) => !coming.includes(b));
          return (
            <>
              {coming.map((b) => (
                <Panel key={b.id} title={b.name} aside={<State of={b.state} />}>
                  <Coming of={b} />
                  <To to={`/bases/${b.name}`}>More of it</To>
                </Panel>
              ))}
              {items.length === 0 && (
                <Empty>There is no base yet. Bring in a disk image, and build sheets begin with it.</Empty>
              )}
              {there.length > 0 && (
                <Panel>
                  <List
                    label="Bases"
                    head={[
                      "Base",
                      "State",
                      "Is",
                      "System",
                      "Newer",
                      "Disk",
                      "Started by",
                      "At",
                      "Added",
                      "By",
                    ]}
                  >
                    {there.map((b) => (
                      <Table.Row key={b.id}>
                        <Table.Cell fontWeight="500">
                          <To to={`/bases/${b.name}`}>{b.name}</To>
                        </Table.Cell>
                        <Table.Cell>
                          <State of={b.state} />
                          {b.why && (
                            <Text color="fg.quiet" fontSize="sm">
                              {b.why}
                            </Text>
                          )}
                        </Table.Cell>
                        <Table.Cell>
                          {titled(b.labels)} {b.serial}
                        </Table.Cell>
                        <Table.Cell>{b.facts.edition}</Table.Cell>
                        <Table.Cell>
                          {b.newer && <To to={`/bases/${b.name}`}>{b.newer.serial}</To>}
                        </Table.Cell>
                        <Table.Cell whiteSpace="nowrap">
                          {!!b.facts.disk_size && size(b.facts.disk_size)}
                        </Table.Cell>
                        <Table.Cell>{b.facts.firmware?.join(", ")}</Table.Cell>
                        <Table.Cell>
                          {b.copies
                            .filter((c) => c.state === "present")
                            .map((c) => c.site)
                            .join(", ")}
                        </Table.Cell>
                        <Table.Cell whiteSpace="nowrap">{time(b.added_at)}</Table.Cell>
                        <Table.Cell>{b.added_by}</Table.Cell>
                      </Table.Row>
                    ))}
                  </List>
                </Panel>
              )}
            </>
          );
        }}
      </Shown>
      <Feeds />
      <Releases />
    </Page>
  );
}
