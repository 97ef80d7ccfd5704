import { Box, Button, HStack, Input, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, type KeptVersion, type RetentionRule } from "../api";
import { count, size } from "../format";
import { useSigned } from "../session";
import { Act, Empty, List, Panel, Problem, Shown, State, To, Words } from "../ui";
import { Labelled } from "./fields";

/** Which versions of an image are kept, and a rule for it: what it would have retired is shown before it is set. */
export function Retention({ image }: { image: string }) {
  const { may } = useSigned();
  const kept = useQuery({
    queryKey: ["retention", image],
    queryFn: () => call(api.GET("/api/v1/images/{image}/retention", { params: { path: { image } } })),
  });
  return (
    <>
      <Panel title="What is kept">
        <Shown query={kept}>
          {(r) => (
            <>
              <Text mb="2">
                <Words>{`It keeps ${r.says}.`}</Words>
                {r.rule.keep > 0 &&
                  " A version also stays that a track, a pool, a host or a rollover names, that is the fallback, or that something is going on with."}
              </Text>
              <Versions image={image} label="Versions and the rule" of={r.versions} />
            </>
          )}
        </Shown>
      </Panel>
      {may("operator") && kept.data && <Change image={image} rule={kept.data.rule} />}
    </>
  );
}

function Versions({ image, label, of }: { image: string; label: string; of: KeptVersion[] }) {
  if (of.length === 0) return <Empty>There is no sealed version yet.</Empty>;
  return (
    <List label={label} head={["Version", "Becomes", "Takes", "At", "Why it is kept"]}>
      {of.map((v) => (
        <Table.Row key={v.number} verticalAlign="top">
          <Table.Cell whiteSpace="nowrap" fontVariantNumeric="tabular-nums">
            <To to={`/images/${image}/versions/${v.number}`}>{v.number}</To>
          </Table.Cell>
          <Table.Cell>
            <State of={v.goes ? "retired" : "kept"} />
            {v.spare > 0 && (
              <Text color="fg.quiet" fontSize="xs">
                {count(v.spare, "copy", "copies")} fewer
              </Text>
            )}
          </Table.Cell>
          <Table.Cell whiteSpace="nowrap" fontVariantNumeric="tabular-nums">
            {size(v.bytes)}
          </Table.Cell>
          <Table.Cell>{v.sites.join(", ")}</Table.Cell>
          <Table.Cell fontSize="sm">
            <Words>{v.why.join("; ")}</Words>
          </Table.Cell>
        </Table.Row>
      ))}
    </List>
  );
}

type Written = { keep: string; days: string; tagged: string };

function ruleOf(w: Written): RetentionRule {
  return {
    keep: Number(w.keep) || 0,
    days: Number(w.days) || 0,
    tagged: w.tagged
      .split(",")
      .map((t) => t.trim())
      .filter(Boolean),
  };
}

function Change({ image, rule }: { image: string; rule: RetentionRule }) {
  const on = rule.keep > 0;
  const [written, write] = useState<Written>({
    keep: on ? `${rule.keep}` : "",
    days: rule.days ? `${rule.days}` : "",
    tagged: (rule.tagged ?? []).join(", "),
  });
  const [tried, setTried] = useState<RetentionRule>();
  const path = { path: { image } };
  const trial = useQuery({
    queryKey: ["retention", image, "tried", tried],
    enabled: tried !== undefined,
    gcTime: 0,
    retry: false,
    queryFn: () =>
      call(
        api.GET("/api/v1/images/{image}/retention", {
          params: { ...path, query: { keep: tried?.keep, days: tried?.days, tagged: tried?.tagged ?? [] } },
          querySerializer: { array: { style: "form", explode: false } },
        }),
      ),
  });
  const set = (change: Partial<Written>) => {
    write({ ...written, ...change });
    setTried(undefined); // what was shown was of another rule
  };
  return (
    <Panel title={on ? "Another rule" : "A rule"} aside="nothing changes before you have seen what goes">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          setTried(ruleOf(written));
        }}
      >
        <HStack align="start" gap="4" wrap="wrap">
          <Labelled label="Keep the newest" help="of those that can be used" required>
            <Input
              type="number"
              min={1}
              max={1000}
              value={written.keep}
              onChange={(e) => set({ keep: e.target.value })}
            />
          </Labelled>
          <Labelled label="And what is younger than" help="days since it was sealed; 0 for none">
            <Input
              type="number"
              min={0}
              max={3650}
              value={written.days}
              onChange={(e) => set({ days: e.target.value })}
            />
          </Labelled>
          <Labelled label="And what is tagged" help="one of these, with commas between">
            <Input value={written.tagged} onChange={(e) => set({ tagged: e.target.value })} />
          </Labelled>
        </HStack>
        <HStack mt="3">
          <Button type="submit" size="sm" variant="outline">
            Show what goes
          </Button>
          {on && (
            <Act
              label="Keep everything"
              title={`Keep everything of ${image}`}
              done={`Everything of ${image} is kept.`}
              button={{ size: "sm" }}
              run={() =>
                call(api.PUT("/api/v1/images/{image}/retention", { params: path, body: { keep: 0 } }))
              }
            >
              No version is retired by itself any more. What was retired stays so.
            </Act>
          )}
        </HStack>
      </form>
      {tried && trial.error && <Problem error={trial.error} />}
      {tried && trial.data && (
        <Box mt="4">
          <Text mb="2" role="status">
            {trial.data.frees_bytes === 0 && trial.data.retires.length === 0
              ? "By this rule nothing goes now."
              : `By this rule ${count(trial.data.retires.length, "version")} would be retired now, which gives back ${size(trial.data.frees_bytes) || "nothing"}${trial.data.versions.some((v) => v.spare > 0) ? " with the copies that are too many" : ""}.`}
          </Text>
          <Versions image={image} label="What the rule would do" of={trial.data.versions} />
          <HStack mt="3">
            <Act
              label={trial.data.retires.length ? "Retire these, and go on by it" : "Go on by this rule"}
              title={`Keep ${trial.data.says} of ${image}`}
              danger={trial.data.retires.length > 0}
              button={{ size: "sm", colorPalette: "deep", variant: "solid" }}
              done="The rule holds from now on."
              run={async () => {
                await call(
                  api.PUT("/api/v1/images/{image}/retention", {
                    params: path,
                    body: {
                      keep: tried.keep,
                      days: tried.days,
                      tagged: tried.tagged ?? [],
                      retires: trial.data.retires,
                    },
                  }),
                );
                setTried(undefined);
              }}
            >
              {trial.data.retires.length > 0 &&
                `Copies and disks of ${trial.data.retires.join(", ")} are deleted, which cannot be undone; their records are kept. `}
              Versions that the rule does not keep are retired from now on as soon as nobody needs them.
            </Act>
          </HStack>
        </Box>
      )}
    </Panel>
  );
}
