import { Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call } from "../api";
import { List, NoneYet, Page, Panel, Shown, To } from "../ui";

export function SitesPage() {
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => call(api.GET("/api/v1/sites")) });
  return (
    <Page title="Sites" lead="The places where hosts run and copies of versions are kept.">
      <Panel>
        <Shown query={sites}>
          {({ items }) =>
            items.length === 0 ? (
              <NoneYet of="site" />
            ) : (
              <List label="Sites" head={["Site", "Platform", "Pools", "Hosts", "Build machines", "Answers"]}>
                {items.map((s) => (
                  <Table.Row key={s.name}>
                    <Table.Cell>
                      <To to={`/sites/${s.name}`}>{s.name}</To>
                      <Text color="fg.quiet" fontSize="sm">
                        {s.title}
                      </Text>
                    </Table.Cell>
                    <Table.Cell>{s.platform}</Table.Cell>
                    <Table.Cell>{s.pools}</Table.Cell>
                    <Table.Cell>{s.hosts}</Table.Cell>
                    <Table.Cell>{s.build_machines.map((m) => m.name).join(", ")}</Table.Cell>
                    <Table.Cell>{s.unreachable ?? "yes"}</Table.Cell>
                  </Table.Row>
                ))}
              </List>
            )
          }
        </Shown>
      </Panel>
    </Page>
  );
}
