import { Box, Button, HStack, Text, Textarea } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, call } from "../api";
import { count } from "../format";
import { FileChoice } from "../parts/fields";
import { useSigned } from "../session";
import { Empty, Page, Panel, Problem, Shown, toaster, Words } from "../ui";

const yaml = { "Content-Type": "application/yaml" };

/** Sends an estate file: to be checked, or to be loaded. */
function load(text: string, dryRun: boolean) {
  return call(
    api.PUT("/api/v1/estate", {
      params: { query: { dry_run: dryRun } },
      headers: yaml,
      body: text,
      bodySerializer: (b: string) => b,
    }),
  );
}

/** The estate as a file: to be read, changed, checked and loaded. */
export function EstatePage() {
  const { may } = useSigned();
  const estate = useQuery({
    queryKey: ["estate"],
    queryFn: async () => call(api.GET("/api/v1/estate", { parseAs: "text" })) as unknown as Promise<string>,
    staleTime: Number.POSITIVE_INFINITY, // what is being written is not replaced
    refetchOnWindowFocus: false,
  });
  return (
    <Page
      title="Estate file"
      lead="What sites, images and pools there are. A file adds and changes; what it leaves out is left alone."
    >
      <Shown query={estate}>
        {(text) =>
          may("administrator") ? (
            <Editor key={text} text={text} />
          ) : (
            <Panel aside="An administrator can load a file.">
              <Box as="pre" fontFamily="mono" fontSize="sm" overflowX="auto" tabIndex={0}>
                {text}
              </Box>
            </Panel>
          )
        }
      </Shown>
    </Page>
  );
}

function Editor({ text: there }: { text: string }) {
  const queries = useQueryClient();
  const [text, setText] = useState(there);
  const check = useMutation({ mutationFn: () => load(text, true) });
  const act = useMutation({
    mutationFn: () => load(text, false),
    onSuccess: ({ changes }) => {
      toaster.create({ title: `Loaded: ${count(changes.length, "change")}.`, type: "success" });
      check.reset();
      void queries.invalidateQueries();
    },
  });
  const edit = (to: string) => {
    setText(to);
    check.reset();
    act.reset();
  };
  const error = act.error ?? check.error;
  const changes = check.data?.changes;
  return (
    <>
      <Panel
        title="File"
        aside={
          <HStack>
            <FileChoice label="An estate file" read={edit} />
            <Button size="xs" variant="outline" disabled={text === there} onClick={() => edit(there)}>
              As it is now
            </Button>
          </HStack>
        }
      >
        <Textarea
          aria-label="Estate file"
          fontFamily="mono"
          fontSize="sm"
          rows={22}
          spellCheck={false}
          value={text}
          onChange={(e) => edit(e.target.value)}
        />
        <HStack mt="3">
          <Button size="sm" variant="outline" loading={check.isPending} onClick={() => check.mutate()}>
            Check
          </Button>
          <Button
            size="sm"
            colorPalette="deep"
            loading={act.isPending}
            disabled={!changes || changes.length === 0}
            onClick={() => act.mutate()}
          >
            Load
          </Button>
          <Text color="fg.quiet" fontSize="sm">
            {!changes && "Check it first: that says what loading would change, and changes nothing."}
          </Text>
        </HStack>
        {error && <Problem error={error} />}
      </Panel>
      {changes && (
        <Panel title="What loading would change" aside={count(changes.length, "change")}>
          {changes.length === 0 ? (
            <Empty>Nothing: the estate is as the file says.</Empty>
          ) : (
            <Box as="ul" ps="4" listStyleType="disc" aria-label="Changes">
              {changes.map((c) => (
                <li key={c}>
                  <Words>{c}</Words>
                </li>
              ))}
            </Box>
          )}
        </Panel>
      )}
    </>
  );
}
