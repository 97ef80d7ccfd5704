import { Button, HStack, Table, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { api, call, type SealFinding } from "../api";
import { time } from "../format";
import { useSigned } from "../session";
import { Act, Empty, List, Problem, Words } from "../ui";

/** What the seal checks found that were made last on a machine. */
export function useMachineCheck(site: string, machine: string, wanted = true) {
  return useQuery({
    queryKey: ["build-machines", site, machine, "check"],
    queryFn: () =>
      call(
        api.GET("/api/v1/sites/{site}/build-machines/{machine}/check", {
          params: { path: { site, machine } },
        }),
      ),
    enabled: wanted && machine !== "",
    refetchInterval: (q) => (q.state.data?.state === "under way" ? 1000 : false),
  });
}

/** Has the seal checks made on a machine, and says how they stand. */
export function CheckNow({ site, machine }: { site: string; machine: string }) {
  const queries = useQueryClient();
  const check = useMachineCheck(site, machine);
  const act = useMutation({
    mutationFn: () =>
      call(
        api.POST("/api/v1/sites/{site}/build-machines/{machine}/check", {
          params: { path: { site, machine } },
        }),
      ),
    onSuccess: (found) => queries.setQueryData(["build-machines", site, machine, "check"], found),
  });
  const { may } = useSigned();
  const c = check.data;
  return (
    <>
      <HStack>
        <Text color="fg.quiet" fontSize="sm">
          {!c?.asked_at
            ? "They were not made."
            : c.state === "under way"
              ? "They are being made."
              : c.stale
                ? `Made ${time(c.asked_at)}; something was done on the machine since.`
                : `Made ${time(c.asked_at)}.`}
        </Text>
        {may("operator") && (
          <Button
            size="xs"
            variant="outline"
            loading={act.isPending || c?.state === "under way"}
            onClick={() => act.mutate()}
          >
            Check now
          </Button>
        )}
      </HStack>
      {act.error && <Problem error={act.error} />}
      {c?.state === "failed" && <Problem error={new Error(c.why ?? "They could not be made.")} />}
    </>
  );
}

/** What seal checks found. Last, if given, is what stands behind a finding. */
export function Findings(props: {
  of: SealFinding[];
  made: boolean;
  last?: { head: string; cell: (f: SealFinding) => ReactNode };
}) {
  if (props.of.length === 0)
    return <Empty>{props.made ? "They found nothing." : "They were not made."}</Empty>;
  return (
    <List
      label="Seal checks"
      head={["Check", "It", "Found", "What to do", ...(props.last ? [props.last.head] : [])]}
    >
      {props.of.map((f) => (
        <Table.Row key={f.check} verticalAlign="top">
          <Table.Cell whiteSpace="nowrap">{f.check}</Table.Cell>
          <Table.Cell whiteSpace="nowrap">{f.waived ? "is waived" : f.severity}</Table.Cell>
          <Table.Cell>
            <Words>{f.evidence}</Words>
          </Table.Cell>
          <Table.Cell>{f.waived ? `Passed over: ${f.waived}` : f.remedy}</Table.Cell>
          {props.last && <Table.Cell textAlign="end">{props.last.cell(f)}</Table.Cell>}
        </Table.Row>
      ))}
    </List>
  );
}

/** Repairs what a seal check found, after saying what will be done. */
export function Repair({ of: f, site, machine }: { of: SealFinding; site: string; machine: string }) {
  const queries = useQueryClient();
  if (!f.repair || f.waived) return null;
  return (
    <Act
      label="Repair"
      title={`Repair ${f.check} on ${machine}`}
      done="The repair has begun. Check the machine again when it is over."
      run={async () => {
        await call(
          api.POST("/api/v1/sites/{site}/build-machines/{machine}/repair", {
            params: { path: { site, machine } },
            body: { check: f.check },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["build-machines"] });
      }}
    >
      That will {f.repair}.
    </Act>
  );
}
