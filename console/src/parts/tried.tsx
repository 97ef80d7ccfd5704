import { Box, Table, Text } from "@chakra-ui/react";
import type { ProofResult } from "../api";
import { List, Words } from "../ui";

/** What was tried on a machine, with pictures of what was opened. */
export function TriedList({
  of: results,
  picture,
}: {
  of: ProofResult[];
  picture: (name: string) => string;
}) {
  return (
    <List label="What was tried" head={["Tried", "Kind", "Took", "Came to", "Picture"]}>
      {results.map((r) => (
        <Table.Row key={`${r.kind} ${r.name}`} verticalAlign="top">
          <Table.Cell>{r.name}</Table.Cell>
          <Table.Cell>{r.kind}</Table.Cell>
          <Table.Cell whiteSpace="nowrap">{r.seconds.toFixed(1)} s</Table.Cell>
          <Table.Cell>
            {r.why ? <Words>{r.why}</Words> : r.kind === "application" ? "came up" : "went well"}
            {r.why && r.output && (
              <Text
                as="pre"
                fontFamily="mono"
                fontSize="xs"
                color="fg.quiet"
                overflowX="auto"
                maxH="12em"
                tabIndex={0}
              >
                {r.output.trimEnd()}
              </Text>
            )}
          </Table.Cell>
          <Table.Cell>
            {r.picture && (
              <a href={picture(r.name)} target="_blank" rel="noreferrer">
                <Box asChild maxW="160px" borderWidth="1px" borderColor="line">
                  <img src={picture(r.name)} alt={`What ${r.name} opened`} />
                </Box>
              </a>
            )}
          </Table.Cell>
        </Table.Row>
      ))}
    </List>
  );
}
