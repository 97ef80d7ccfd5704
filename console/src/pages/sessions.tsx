import { HStack, Table } from "@chakra-ui/react";
import { api, call, type Session } from "../api";
import { time } from "../format";
import { useSigned } from "../session";
import { Act, List, To } from "../ui";

/** The people on a host, or in a pool, with what can be done about them. */
export function SessionList({ sessions }: { sessions: Session[] }) {
  const { may } = useSigned();
  return (
    <List label="Sessions" head={["Person", "Host", "State", "Since", "Actions"]}>
      {sessions.map((s) => (
        <Table.Row key={`${s.host}/${s.key}`}>
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
      ))}
    </List>
  );
}
