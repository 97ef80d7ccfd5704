import { Alert, Box, Button, Flex, Input, NativeSelect, Text, Textarea, VStack } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, call, type Options } from "../api";
import { count } from "../format";
import { Check, Labelled } from "../parts/fields";
import { Preview } from "../preview";
import { Empty, Page, Panel, Problem, Reasons, Shown, To } from "../ui";

export function StartPage() {
  const defaults = useQuery({
    queryKey: ["defaults"],
    queryFn: () => call(api.GET("/api/v1/rollovers/defaults")),
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (
    <Page
      title="Start a rollover"
      lead="Hosts move to the version that their pool should run: drained, emptied, rebuilt, checked and put back, batch by batch."
    >
      <Shown query={defaults}>{(d) => <StartForm defaults={d} />}</Shown>
    </Page>
  );
}

function StartForm({ defaults }: { defaults: Options }) {
  const go = useNavigate();
  const [search] = useSearchParams();
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => call(api.GET("/api/v1/pools")) });
  const [chosen, setChosen] = useState<string[]>(search.getAll("pool"));
  const [o, setO] = useState<Options>(defaults);
  const [earliest, setEarliest] = useState("");
  const [reason, setReason] = useState("");
  const set = (part: Options) => setO({ ...o, ...part });
  // Send changed options only, so that the preview can tell them from the defaults.
  const given = Object.fromEntries(
    Object.entries(o).filter(([name, value]) => value !== defaults[name as keyof Options]),
  ) as Options;
  const ends = o.log_off === "warn" || (!!o.deadline && o.deadline !== "0s");
  const start = useMutation({
    mutationFn: () =>
      call(
        api.POST("/api/v1/rollovers", {
          body: {
            pools: chosen,
            reason,
            options: { ...given, earliest_start: earliest ? `${earliest}:00Z` : undefined },
          },
        }),
      ),
    onSuccess: ({ items, left }) => {
      if (left.length === 0) void go(items.length === 1 ? `/rollovers/${items[0].id}` : "/rollovers");
    },
  });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        start.mutate();
      }}
    >
      <Panel title="Pools">
        <Shown query={pools}>
          {({ items }) => {
            const candidates = items.filter((p) => p.drifting > 0 || chosen.includes(p.name));
            return candidates.length === 0 ? (
              <Empty>No pool drifts: there is nothing to roll over.</Empty>
            ) : (
              <VStack align="start" gap="2">
                {candidates.map((p) => (
                  <Check
                    key={p.name}
                    checked={chosen.includes(p.name)}
                    set={(on) => setChosen(on ? [...chosen, p.name] : chosen.filter((c) => c !== p.name))}
                    label={`${p.name}: ${p.drifting} of ${count(p.hosts, "host")} to ${p.target}; ${count(p.sessions, "person", "people")}, ${count(p.free, "free seat")}${p.rollover ? `; being rolled by rollover ${p.rollover}` : ""}`}
                  />
                ))}
              </VStack>
            );
          }}
        </Shown>
      </Panel>
      <Panel title="How">
        <VStack align="stretch" gap="4">
          <Flex gap="4" wrap="wrap">
            <Labelled label="Batch" help="hosts, or a share such as 10%">
              <Input value={o.batch} onChange={(e) => set({ batch: e.target.value })} />
            </Labelled>
            <Labelled label="Floor" help="seats that stay free, or a share">
              <Input value={o.floor} onChange={(e) => set({ floor: e.target.value })} />
            </Labelled>
            <Labelled label="Failure budget" help="hosts that may fail before it pauses">
              <Input
                type="number"
                min={0}
                value={o.failure_budget}
                onChange={(e) => set({ failure_budget: Number(e.target.value) })}
              />
            </Labelled>
            <Labelled label="Observe" help="the last batch before the next, such as 10m">
              <Input value={o.observe} onChange={(e) => set({ observe: e.target.value })} />
            </Labelled>
          </Flex>
          <Flex gap="4" wrap="wrap">
            <Labelled label="Log-off policy">
              <NativeSelect.Root>
                <NativeSelect.Field
                  value={o.log_off}
                  onChange={(e) => set({ log_off: e.target.value as "wait" | "warn" })}
                >
                  <option value="wait">wait for people to leave</option>
                  <option value="warn">warn, then end the session</option>
                </NativeSelect.Field>
                <NativeSelect.Indicator />
              </NativeSelect.Root>
            </Labelled>
            {o.log_off === "wait" && (
              <Labelled label="Deadline" help="after it, warn applies; 0s for never">
                <Input value={o.deadline} onChange={(e) => set({ deadline: e.target.value })} />
              </Labelled>
            )}
            {ends && (
              <>
                <Labelled label="Grace" help="from the warning to the sign-off">
                  <Input value={o.grace} onChange={(e) => set({ grace: e.target.value })} />
                </Labelled>
                <Labelled label="Last notice" help="so long before the end">
                  <Input value={o.last_notice} onChange={(e) => set({ last_notice: e.target.value })} />
                </Labelled>
              </>
            )}
            <Labelled label="Stagger" help="starts a minute; 0 for the site's limit">
              <Input
                type="number"
                min={0}
                value={o.stagger ?? 0}
                onChange={(e) => set({ stagger: Number(e.target.value) })}
              />
            </Labelled>
            <Labelled label="Earliest start" help="UTC; empty for now">
              <Input type="datetime-local" value={earliest} onChange={(e) => setEarliest(e.target.value)} />
            </Labelled>
          </Flex>
          {ends && (
            <Flex gap="4" wrap="wrap">
              <Labelled label="First notice" help="{minutes} stands for the grace">
                <Textarea
                  rows={2}
                  value={o.first_text}
                  onChange={(e) => set({ first_text: e.target.value })}
                />
              </Labelled>
              <Labelled label="Last notice text" help="{minutes} stands for what is left">
                <Textarea rows={2} value={o.last_text} onChange={(e) => set({ last_text: e.target.value })} />
              </Labelled>
            </Flex>
          )}
          <Labelled label="Reason">
            <Input value={reason} onChange={(e) => setReason(e.target.value)} />
          </Labelled>
        </VStack>
      </Panel>
      {chosen.length > 0 && (
        <Panel title="What it will do">
          <Preview of={{ act: "roll", pools: chosen, options: given }} />
        </Panel>
      )}
      {start.error && <Problem error={start.error} />}
      {start.data && start.data.left.length > 0 && (
        <Alert.Root status="warning" variant="surface">
          <Alert.Indicator />
          <Alert.Content>
            <Alert.Title>
              {count(start.data.items.length, "rollover")} started. These pools were not rolled over:
            </Alert.Title>
            <Reasons of={start.data.left.map((l) => `${l.pool}: ${l.why}`)} />
            <To to="/rollovers">All rollovers</To>
          </Alert.Content>
        </Alert.Root>
      )}
      <Box>
        <Button type="submit" colorPalette="deep" loading={start.isPending} disabled={chosen.length === 0}>
          Start
        </Button>
        <Text as="span" ms="3" color="fg.quiet">
          {chosen.length === 0 ? "Choose at least one pool." : `Rolls ${chosen.join(", ")}.`}
        </Text>
      </Box>
    </form>
  );
}
