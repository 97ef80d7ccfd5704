import { Box, Field, HStack, Input, Table } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, call } from "../api";
import { time } from "../format";
import { useSigned } from "../session";
import { Act, List, Panel, Shown, State, To, Words } from "../ui";

/** How the trial of a version stands: what clearance asks for, and what testers said. */
export function Trial({ image, number }: { image: string; number: string }) {
  const { may } = useSigned();
  const trial = useQuery({
    queryKey: ["trials", image, number],
    queryFn: () =>
      call(
        api.GET("/api/v1/images/{image}/versions/{number}/trial", {
          params: { path: { image: image, number } },
        }),
      ),
    refetchInterval: 15_000, // the soak goes on without an event
  });
  return (
    <Panel
      title={`Trial of ${number}`}
      aside={
        trial.data && (
          <HStack>
            <span>{trial.data.cleared ? "It has clearance." : "It has no clearance yet."}</span>
            {may("approver") && trial.data.rules.some((r) => r.rule === "downgrades" && !r.met) && (
              <PassOver image={image} number={number} />
            )}
          </HStack>
        )
      }
    >
      <Shown query={trial}>
        {(t) => (
          <>
            <List label="Clearance" head={["Rule", "Answer", "Why"]}>
              {t.rules.map((r) => (
                <Table.Row key={r.rule}>
                  <Table.Cell w="120px">{r.rule}</Table.Cell>
                  <Table.Cell w="90px">
                    <State of={r.met ? "met" : "not met"} />
                  </Table.Cell>
                  <Table.Cell>
                    <Words>{r.why}</Words>
                  </Table.Cell>
                </Table.Row>
              ))}
            </List>
            {t.sign_offs.length > 0 && (
              <Box mt="3">
                <List label="Sign-offs" head={["Tester", "Says", "At", "Comment"]}>
                  {t.sign_offs.map((s) => (
                    <Table.Row key={s.tester}>
                      <Table.Cell w="120px">{s.tester}</Table.Cell>
                      <Table.Cell w="90px">{s.yes ? "yes" : "no"}</Table.Cell>
                      <Table.Cell w="150px">{time(s.at)}</Table.Cell>
                      <Table.Cell>{s.comment}</Table.Cell>
                    </Table.Row>
                  ))}
                </List>
              </Box>
            )}
          </>
        )}
      </Shown>
    </Panel>
  );
}

/** Passes over that a piece of software is older than in the version in use. */
function PassOver({ image, number }: { image: string; number: string }) {
  const [software, setSoftware] = useState("");
  return (
    <Act
      label="Pass over a downgrade"
      title={`Pass over a downgrade in ${number}`}
      reason="needed"
      done={`${software} may be older.`}
      run={(reason) =>
        call(
          api.POST("/api/v1/images/{image}/versions/{number}/trial/waivers", {
            params: { path: { image, number } },
            body: { software: software.trim(), reason },
          }),
        )
      }
    >
      What is older stands in the{" "}
      <To to={`/images/${image}/compare/${number}?what=downgraded`}>comparison</To>.
      <Field.Root required mt="3">
        <Field.Label>Software</Field.Label>
        <Input value={software} onChange={(e) => setSoftware(e.target.value)} maxLength={2000} />
      </Field.Root>
    </Act>
  );
}
