import { Button, Table } from "@chakra-ui/react";
import { useInfiniteQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, call } from "../api";
import { time } from "../format";
import { useSigned } from "../session";
import { Empty, List, Page, Panel, Shown, State, To } from "../ui";

export function RolloversPage() {
  const { may } = useSigned();
  const rollovers = useInfiniteQuery({
    queryKey: ["rollovers"],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      call(api.GET("/api/v1/rollovers", { params: { query: { limit: 50, cursor: pageParam } } })),
    getNextPageParam: (last) => last.next || undefined,
  });
  return (
    <Page
      title="Rollovers"
      lead="Hosts move to the version they should run, batch by batch."
      actions={
        may("operator") && (
          <Button asChild size="sm" colorPalette="deep">
            <Link to="/rollovers/new">Start a rollover</Link>
          </Button>
        )
      }
    >
      <Panel>
        <Shown query={rollovers}>
          {({ pages }) => {
            const items = pages.flatMap((p) => p.items);
            return items.length === 0 ? (
              <Empty>There was no rollover yet.</Empty>
            ) : (
              <List
                label="Rollovers"
                head={["Rollover", "Pool", "To", "State", "Settled", "Failed", "Started", "Ended", "By"]}
              >
                {items.map((r) => (
                  <Table.Row key={r.id}>
                    <Table.Cell>
                      <To to={`/rollovers/${r.id}`}>{String(r.id)}</To>
                    </Table.Cell>
                    <Table.Cell>
                      <To to={`/pools/${r.pool}`}>{r.pool}</To>
                    </Table.Cell>
                    <Table.Cell>
                      {r.image} {r.version}
                      {r.reverses > 0 && `, reverses ${r.reverses}`}
                    </Table.Cell>
                    <Table.Cell>
                      <State of={r.state} />
                    </Table.Cell>
                    <Table.Cell>
                      {(r.phases.done ?? 0) + (r.phases.failed ?? 0) + (r.phases.left ?? 0)} of {r.total}
                    </Table.Cell>
                    <Table.Cell>{r.phases.failed ?? ""}</Table.Cell>
                    <Table.Cell whiteSpace="nowrap">{time(r.started_at)}</Table.Cell>
                    <Table.Cell whiteSpace="nowrap">{time(r.ended_at)}</Table.Cell>
                    <Table.Cell>{r.created_by}</Table.Cell>
                  </Table.Row>
                ))}
              </List>
            );
          }}
        </Shown>
        {rollovers.hasNextPage && (
          <Button
            size="xs"
            variant="outline"
            mt="2"
            onClick={() => void rollovers.fetchNextPage()}
            loading={rollovers.isFetchingNextPage}
          >
            Show older ones
          </Button>
        )}
      </Panel>
    </Page>
  );
}
