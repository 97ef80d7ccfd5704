import { Button, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, call, type Pool } from "../api";
import { useSigned } from "../session";
import { List, NoneYet, Page, Panel, Shown, To } from "../ui";

/** The versions that a pool's hosts run, with their numbers if they run several. */
function runs(versions: Pool["versions"]): string {
  const [first, ...others] = Object.entries(versions).sort(([, a], [, b]) => b - a);
  if (!first || (others.length === 0 && !first[0])) return "nothing yet";
  if (others.length === 0) return first[0];
  return [first, ...others].map(([number, n]) => `${number || "no version"} (${n})`).join(", ");
}

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
                  "Runs",
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
                    <Table.Cell fontVariantNumeric="tabular-nums">{runs(p.versions)}</Table.Cell>
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
