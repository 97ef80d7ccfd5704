import { HStack, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { memo } from "react";
import { api, call, type Session } from "../api";
import { count, time } from "../format";
import type { HostState } from "../panes";
import { useSigned } from "../session";
import { Act, Empty, List, Panel, Shown, To } from "../ui";

/** One of them, who is drawn again only if something about them has changed. */
const OneSession = memo(
  function OneSession({ of: s }: { of: Session }) {
    const { may } = useSigned();
    return (
      <Table.Row>
        <Table.Cell>{s.person}</Table.Cell>
        <Table.Cell>
          <To to={`/pools/${s.pool}?host=${s.host}`}>{s.host}</To>
        </Table.Cell>
        <Table.Cell>{s.state}</Table.Cell>
        <Table.Cell whiteSpace="nowrap">{time(s.since)}</Table.Cell>
        <Table.Cell>
          {may("operator") && (
            <HStack gap="1">
              <Act
                label="Tell"
                title={`Tell ${s.person}`}
                reason="needed"
                reasonLabel="Text"
                done={`${s.person} is told.`}
                run={(text) =>
                  call(
                    api.POST("/api/v1/hosts/{host}/sessions/{key}/tell", {
                      params: { path: { host: s.host, key: s.key } },
                      body: { text },
                    }),
                  )
                }
              />
              <Act
                label="Sign off"
                title={`Sign ${s.person} off`}
                reason="wanted"
                danger
                done={`${s.person} is being signed off.`}
                run={(reason) =>
                  call(
                    api.POST("/api/v1/hosts/{host}/sessions/{key}/sign-off", {
                      params: { path: { host: s.host, key: s.key } },
                      body: { reason },
                    }),
                  )
                }
              >
                The session on {s.host} ends now. What is not saved is lost.
              </Act>
            </HStack>
          )}
        </Table.Cell>
      </Table.Row>
    );
  },
  ({ of: a }, { of: b }) =>
    a.host === b.host &&
    a.key === b.key &&
    a.person === b.person &&
    a.state === b.state &&
    a.since === b.since,
);

/** The people on a host, or in a pool, with what can be done about them. */
export function SessionList({ sessions }: { sessions: Session[] }) {
  return (
    <List label="Sessions" head={["Person", "Host", "State", "Since", "Actions"]}>
      {sessions.map((s) => (
        <OneSession key={`${s.host}/${s.key}`} of={s} />
      ))}
    </List>
  );
}

const shownHere = 10;

/** Some of the people of a pool, and where the others are. */
export function SomeSessions(props: { title: string; pool: string; on?: HostState; none: string }) {
  const { title, pool, on, none } = props;
  const sessions = useQuery({
    queryKey: ["sessions", "pool", pool, on],
    queryFn: () =>
      call(api.GET("/api/v1/sessions", { params: { query: { pool, host_state: on, limit: shownHere } } })),
  });
  return (
    <Panel title={title}>
      <Shown query={sessions}>
        {({ items, next }) =>
          items.length === 0 ? (
            <Empty>{none}</Empty>
          ) : (
            <>
              <SessionList sessions={items} />
              {next && (
                <Text mt="2" fontSize="sm">
                  The first {count(items.length, "session")}.{" "}
                  <To to={`/people?pool=${pool}${on ? `&host=${on}` : ""}`}>Show all of them</To>
                </Text>
              )}
            </>
          )
        }
      </Shown>
    </Panel>
  );
}
