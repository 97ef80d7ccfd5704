import { Button, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, call } from "../api";
import { useSigned } from "../session";
import { List, NoneYet, Page, Panel, Shown, To } from "../ui";

export function PoolsPage() {
  const { may } = useSigned();
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => call(api.GET("/api/v1/pools")) });
  return (
    <Page
      title="Pools"
      lead="Hosts of one kind, for one group of people."
      actions={
        may("operator") && (
          <Button asChild size="sm" colorPalette="deep">
            <Link to="/rollovers/new">Start a rollover</Link>
          </Button>
        )
      }
    >
      <Panel>
        <Shown query={pools}>
          {({ items }) =>
            items.length === 0 ? (
              <NoneYet of="pool" />
            ) : (
              <List
                label="Pools"
                head={[
                  "Pool",
                  "Site",
                  "Follows",
                  "Should run",
                  "Hosts serving",
                  "People",
                  "Free seats",
                  "Drift",
                  "Rollover",
                ]}
              >
                {items.map((p) => (
                  <Table.Row key={p.name}>
                    <Table.Cell>
                      <To to={`/pools/${p.name}`}>{p.name}</To>
                      <Text color="fg.quiet" fontSize="sm">
                        {p.title}
                      </Text>
                    </Table.Cell>
                    <Table.Cell>{p.site}</Table.Cell>
                    <Table.Cell>{p.pinned ? `pinned to ${p.pinned}` : `${p.track} of ${p.image}`}</Table.Cell>
                    <Table.Cell fontVariantNumeric="tabular-nums">{p.target || "nothing yet"}</Table.Cell>
                    <Table.Cell>
                      {p.states.serving ?? 0} of {p.hosts}
                    </Table.Cell>
                    <Table.Cell>{p.sessions}</Table.Cell>
                    <Table.Cell>
                      {p.free} of {p.hosts * p.seats_per_host}
                    </Table.Cell>
                    <Table.Cell>{p.drifting ? `${p.drifting} drift` : ""}</Table.Cell>
                    <Table.Cell>
                      {p.rollover > 0 && <To to={`/rollovers/${p.rollover}`}>{String(p.rollover)}</To>}
                    </Table.Cell>
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
