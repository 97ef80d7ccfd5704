import { HStack, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call, type PoolReadiness } from "../api";
import { time } from "../format";
import { List, Panel, Shown, State, To, Words } from "../ui";

/** Whether an image could be rolled back now, pool by pool, and how long that would take. */
export function GoingBack({ image }: { image: string }) {
  const readiness = useQuery({
    queryKey: ["readiness", image],
    queryFn: () => call(api.GET("/api/v1/images/{image}/readiness", { params: { path: { image } } })),
    refetchInterval: 30_000, // hosts move, and copies grow old, without an event of the image
  });
  return (
    <Panel title="Going back">
      <Shown query={readiness}>
        {(r) => (
          <>
            <HStack align="start">
              {r.to && <State of={r.ready ? "ready" : "not ready"} />}
              <Text>
                <Words>{r.says}</Words>
              </Text>
            </HStack>
            {r.pools.length > 0 && (
              <List
                label="Going back"
                head={["Pool", "At", "State", "Hosts", "Takes", "Copies read", "Remarks"]}
              >
                {r.pools.map((p) => (
                  <Row key={p.pool} of={p} />
                ))}
              </List>
            )}
          </>
        )}
      </Shown>
    </Panel>
  );
}

function Row({ of: p }: { of: PoolReadiness }) {
  return (
    <Table.Row verticalAlign="top">
      <Table.Cell whiteSpace="nowrap">
        <To to={`/pools/${p.pool}`}>{p.pool}</To>
      </Table.Cell>
      <Table.Cell whiteSpace="nowrap">
        <To to={`/sites/${p.site}`}>{p.site}</To>
      </Table.Cell>
      <Table.Cell>
        <State of={p.ready ? "ready" : "not ready"} />
      </Table.Cell>
      <Table.Cell fontVariantNumeric="tabular-nums">{p.hosts || "none"}</Table.Cell>
      <Table.Cell whiteSpace="nowrap" fontVariantNumeric="tabular-nums">
        {p.takes}
      </Table.Cell>
      <Table.Cell whiteSpace="nowrap">{p.read_at && time(p.read_at)}</Table.Cell>
      <Table.Cell fontSize="sm">
        {[...p.why, ...p.but, ...(p.people ? [p.people] : [])].map((remark) => (
          <Text key={remark}>
            <Words>{remark}</Words>
          </Text>
        ))}
      </Table.Cell>
    </Table.Row>
  );
}
