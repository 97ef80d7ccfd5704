import { Box, Button, Flex, Table, Text } from "@chakra-ui/react";
import { api, call, type SoftwareOrigin, type Version } from "../api";
import { count, time } from "../format";
import { List, Panel, Words } from "../ui";
import { BringList } from "./bring-list";
import { Choose, Find, Narrowing, Pages, useNarrowing, usePages } from "./paged";

/** What is in a version, with a search in it. */
export function SoftwareList({ version: v }: { version: Version }) {
  return v.software ? (
    <Listed version={v} />
  ) : (
    <Panel title="Software">
      <Text mb="3">
        <Words>{`It has no software list: ${v.unlisted || "it is not sealed yet"}.`}</Words>
      </Text>
      <BringList version={v} />
    </Panel>
  );
}

function Listed({ version: { image, number } }: { version: Version }) {
  const [{ search, origin }, narrow] = useNarrowing(["search", "origin"]);
  const path = { image, number };
  const entries = usePages(["software", image, number, search, origin], (cursor) =>
    call(
      api.GET("/api/v1/images/{image}/versions/{number}/software", {
        params: { path, query: { search, origin: (origin || undefined) as SoftwareOrigin, cursor } },
      }),
    ),
  );
  const list = entries.data?.pages[0];
  const counts = list?.counts ?? [];
  return (
    <>
      <Narrowing>
        <Find label="Name, source or text" value={search} onFind={(text) => narrow("search", text)} />
        <Choose
          label="Origin"
          all="All origins"
          value={origin}
          of={counts.map((c) => c.origin)}
          onChoose={(o) => narrow("origin", o)}
        />
      </Narrowing>
      {list && (
        <Flex justify="space-between" align="center" gap="3" wrap="wrap" mb="2">
          <Text color="fg.quiet" fontSize="sm">
            {count(list.entries, "piece", "pieces")} of software, listed
            {list.taken_by && ` by ${list.taken_by}`} on {time(list.taken_at)}
            {list.brought_by && `, brought by ${list.brought_by}`}. Here:{" "}
            {counts.map((c) => `${c.n} ${c.origin}`).join(", ") || "none"}.
          </Text>
          <Button asChild size="xs" variant="outline">
            <a href={`/api/v1/images/${image}/versions/${number}/software/document`} download>
              Download as CycloneDX
            </a>
          </Button>
        </Flex>
      )}
      <Pages query={entries} empty="Nothing in it is like that." more="More software">
        {(items) => (
          <List label="Software" head={["Software", "Version", "Origin", "Source", "Licence", "What it is"]}>
            {items.map((e) => (
              <Table.Row key={`${e.origin} ${e.name} ${e.version} ${e.arch} ${e.path}`}>
                <Table.Cell overflowWrap="anywhere">{e.name}</Table.Cell>
                <Table.Cell overflowWrap="anywhere" minW="110px">
                  {e.version}
                  {e.security && <Box color="fg.quiet">security fix</Box>}
                </Table.Cell>
                <Table.Cell>{e.origin}</Table.Cell>
                <Table.Cell overflowWrap="anywhere">{e.source}</Table.Cell>
                <Table.Cell overflowWrap="anywhere">{e.licence}</Table.Cell>
                <Table.Cell overflowWrap="anywhere">
                  {e.summary}
                  {e.path && <Box color="fg.quiet">{e.path}</Box>}
                </Table.Cell>
              </Table.Row>
            ))}
          </List>
        )}
      </Pages>
    </>
  );
}
