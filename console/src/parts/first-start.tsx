import { Box, Field, HStack, NativeSelect, Table, Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { api, call, type Proof, type Version } from "../api";
import { span, time } from "../format";
import { useSigned } from "../session";
import { Act, Empty, FormDialog, List, Panel, State, Words } from "../ui";
import { Hours } from "./held-build";
import { TriedList } from "./tried";

/** How a version came up when it was started on machines that are thrown away, and machines of it for people. */
export function FirstStart({ version: v }: { version: Version }) {
  const { may } = useSigned();
  const proofs = useQuery({
    queryKey: ["proofs", v.image, v.number],
    queryFn: () =>
      call(
        api.GET("/api/v1/proofs", { params: { query: { image: v.image, version: v.number, limit: 10 } } }),
      ),
  });
  const list = proofs.data?.items ?? [];
  const last = list.find((p) => !p.until);
  return (
    <Panel
      title="First start"
      aside={
        may("operator") &&
        v.state === "sealed" && (
          <HStack>
            <Prove version={v} />
            <TryIt version={v} />
          </HStack>
        )
      }
    >
      {list.length === 0 && <Empty>It was not started apart from its hosts.</Empty>}
      {list.length > 0 && (
        <List
          label="Machines it was started on"
          head={["No", "Machine", "State", "First start", "By", "Since", "Came to", "Acts"]}
        >
          {list.map((p) => (
            <Table.Row key={p.id} verticalAlign="top">
              <Table.Cell>{p.id}</Table.Cell>
              <Table.Cell>
                {p.machine} at {p.site}
              </Table.Cell>
              <Table.Cell>
                <State of={p.state} />
              </Table.Cell>
              <Table.Cell whiteSpace="nowrap">
                {p.first_start_seconds ? span(Math.round(p.first_start_seconds)) : ""}
              </Table.Cell>
              <Table.Cell>{p.asked_by}</Table.Cell>
              <Table.Cell whiteSpace="nowrap">{time(p.asked_at)}</Table.Cell>
              <Table.Cell>
                {p.why ? (
                  <Words>{p.why}</Words>
                ) : (
                  p.until && !p.ended_at && <Words>{`kept until ${time(p.until)}`}</Words>
                )}
              </Table.Cell>
              <Table.Cell textAlign="end">{may("operator") && !p.ended_at && <LetGo of={p} />}</Table.Cell>
            </Table.Row>
          ))}
        </List>
      )}
      {last && <Tried id={last.id} />}
      {list
        .filter((p) => p.until && !p.settled)
        .map((p) => (
          <Reach key={p.id} id={p.id} />
        ))}
    </Panel>
  );
}

function useProof(id: number) {
  return useQuery({
    queryKey: ["proofs", id],
    queryFn: () => call(api.GET("/api/v1/proofs/{id}", { params: { path: { id } } })),
  });
}

/** What was tried on the machine of a proof. */
function Tried({ id }: { id: number }) {
  const p = useProof(id).data;
  if (!p || (p.results.length === 0 && !p.picture)) return null;
  return (
    <Box mt="3">
      {p.results.length > 0 && (
        <TriedList
          of={p.results}
          picture={(name) => `/api/v1/proofs/${id}/picture.png?application=${encodeURIComponent(name)}`}
        />
      )}
      {p.picture && (
        <Box asChild mt="3" maxW="min(320px, 100%)" borderWidth="1px" borderColor="line">
          <img src={`/api/v1/proofs/${id}/picture.png`} alt={`The display of ${p.machine}`} />
        </Box>
      )}
    </Box>
  );
}

/** How a machine that is kept for a person is reached. */
function Reach({ id }: { id: number }) {
  const p = useProof(id).data;
  if (!p?.runs) return null;
  return (
    <Text mt="2" color="fg.quiet" fontSize="sm">
      {p.machine}:{" "}
      {[p.runs.display && `display ${p.runs.display}`, p.runs.network, p.runs.why].filter(Boolean).join("; ")}
    </Text>
  );
}

function LetGo({ of: p }: { of: Proof }) {
  const queries = useQueryClient();
  return (
    <Act
      label="Let go"
      title={`Let go of ${p.machine}`}
      reason="wanted"
      danger
      run={async (reason) => {
        await call(
          api.POST("/api/v1/proofs/{id}/let-go", { params: { path: { id: p.id } }, body: { reason } }),
        );
        await queries.invalidateQueries({ queryKey: ["proofs"] });
      }}
    >
      The machine is thrown away, with what was done on it.
    </Act>
  );
}

function Prove({ version: v }: { version: Version }) {
  const [site, choice] = useSite(v);
  const queries = useQueryClient();
  return (
    <FormDialog
      label="Prove its first start"
      title={`Prove the first start of ${v.image} ${v.number}`}
      submit={async () => {
        await call(
          api.POST("/api/v1/images/{image}/versions/{number}/prove", {
            params: { path: { image: v.image, number: v.number } },
            body: { site },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["proofs"] });
      }}
    >
      <Text color="fg.quiet">
        A machine is made of it as a host of a pool would be. Its agent has to speak, its checks have to pass,
        and its applications have to come up. Then it is thrown away.
      </Text>
      {choice}
    </FormDialog>
  );
}

function TryIt({ version: v }: { version: Version }) {
  const [site, choice] = useSite(v);
  const [hours, setHours] = useState("2");
  const queries = useQueryClient();
  return (
    <FormDialog
      label="Make a machine to try"
      title={`Make a machine of ${v.image} ${v.number} to try`}
      submit={async () => {
        await call(
          api.POST("/api/v1/images/{image}/versions/{number}/try", {
            params: { path: { image: v.image, number: v.number } },
            body: { site, seconds: Math.round(Number(hours) * 3600) },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["proofs"] });
      }}
    >
      <Text color="fg.quiet">It goes by itself when its time is over.</Text>
      {choice}
      <Hours label="For how many hours" value={hours} set={setHours} />
    </FormDialog>
  );
}

/** A site that is chosen, those with copies of the version first. */
function useSite(v: Version): [string, ReactNode] {
  const [chosen, set] = useState("");
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => call(api.GET("/api/v1/sites")) });
  const has = new Set(v.copies.map((c) => c.site));
  const names = (sites.data?.items ?? []).map((s) => s.name);
  names.sort((a, b) => Number(has.has(b)) - Number(has.has(a)));
  const site = chosen || (names[0] ?? "");
  return [
    site,
    <Field.Root key="site">
      <Field.Label>Site</Field.Label>
      <NativeSelect.Root>
        <NativeSelect.Field value={site} onChange={(e) => set(e.target.value)}>
          {names.map((n) => (
            <option key={n} value={n}>
              {has.has(n) ? n : `${n}, to which a copy is delivered first`}
            </option>
          ))}
        </NativeSelect.Field>
        <NativeSelect.Indicator />
      </NativeSelect.Root>
    </Field.Root>,
  ];
}
