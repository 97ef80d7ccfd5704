import { Button, Field, Flex, Input, Table, Text } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { api, call } from "../api";
import { count, detail, time } from "../format";
import { Empty, List, Page, Panel, Problem, Shown, Words } from "../ui";

const filters = ["actor", "verb", "subject", "scope"] as const;
const examples = { actor: "tove", verb: "version.activate", subject: "counter-desk", scope: "rollover 3" };

export function TrailPage() {
  const [search, setSearch] = useSearchParams();
  const [draft, setDraft] = useState(Object.fromEntries(filters.map((f) => [f, search.get(f) ?? ""])));
  const query = Object.fromEntries(filters.map((f) => [f, search.get(f) ?? ""]).filter(([, v]) => v));
  const trail = useInfiniteQuery({
    queryKey: ["trail", query],
    initialPageParam: "",
    queryFn: ({ pageParam }) =>
      call(api.GET("/api/v1/trail", { params: { query: { ...query, limit: 50, cursor: pageParam } } })),
    getNextPageParam: (last) => last.next || undefined,
  });
  const verify = useMutation({ mutationFn: () => call(api.GET("/api/v1/trail/verify")) });
  return (
    <Page
      title="Trail"
      lead="Who did what, when, to what, and why; each entry carries the hash of the one before it."
      actions={
        <>
          <Button size="sm" variant="outline" onClick={() => verify.mutate()} loading={verify.isPending}>
            Verify
          </Button>
          <Button size="sm" variant="outline" asChild>
            <a href="/api/v1/trail/export" download="trail.jsonl">
              Export
            </a>
          </Button>
        </>
      }
    >
      {verify.error && <Problem error={verify.error} />}
      {verify.data && (
        <Panel>
          <Text role="status" fontWeight="600">
            {verify.data.breaks.length === 0
              ? `The trail is whole: ${count(verify.data.entries, "entry", "entries")}. The hash of the last is ${verify.data.last}.`
              : `The trail does not fit together in ${count(verify.data.breaks.length, "place")}: somebody changed it.`}
          </Text>
          {verify.data.breaks.map((b) => (
            <Text key={b.seq}>
              Entry {b.seq}: {b.why}
            </Text>
          ))}
        </Panel>
      )}
      <Panel>
        <form
          onSubmit={(e) => {
            e.preventDefault();
            setSearch(Object.fromEntries(Object.entries(draft).filter(([, v]) => v)));
          }}
        >
          <Flex gap="3" align="end" mb="3" wrap="wrap">
            {filters.map((f) => (
              <Field.Root key={f} w="190px">
                <Field.Label>{{ actor: "Who", verb: "What", subject: "Of", scope: "In" }[f]}</Field.Label>
                <Input
                  size="sm"
                  value={draft[f]}
                  placeholder={examples[f]}
                  onChange={(e) => setDraft({ ...draft, [f]: e.target.value })}
                />
              </Field.Root>
            ))}
            <Button type="submit" size="sm" variant="outline">
              Filter
            </Button>
          </Flex>
        </form>
        <Shown query={trail}>
          {({ pages }) => {
            const items = pages.flatMap((p) => p.items);
            return items.length === 0 ? (
              <Empty>No entry is like that.</Empty>
            ) : (
              <List label="Trail" head={["#", "At", "Who", "What", "Of", "In", "Why"]}>
                {items.map((e) => (
                  <Table.Row key={e.seq}>
                    <Table.Cell fontVariantNumeric="tabular-nums">{e.seq}</Table.Cell>
                    <Table.Cell whiteSpace="nowrap">{time(e.at)}</Table.Cell>
                    <Table.Cell>{e.actor}</Table.Cell>
                    <Table.Cell>{e.verb}</Table.Cell>
                    <Table.Cell>{e.subject}</Table.Cell>
                    <Table.Cell whiteSpace="nowrap">{e.scope === e.subject ? "" : e.scope}</Table.Cell>
                    <Table.Cell>
                      <Words>{[e.reason, detail(e.detail)].filter(Boolean).join(" · ")}</Words>
                    </Table.Cell>
                  </Table.Row>
                ))}
              </List>
            );
          }}
        </Shown>
        {trail.hasNextPage && (
          <Button
            size="xs"
            variant="outline"
            mt="2"
            onClick={() => void trail.fetchNextPage()}
            loading={trail.isFetchingNextPage}
          >
            Show older ones
          </Button>
        )}
      </Panel>
    </Page>
  );
}
