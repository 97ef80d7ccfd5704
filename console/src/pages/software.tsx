import { Box, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call, type SoftwareHolder } from "../api";
import { count } from "../format";
import { Check } from "../parts/fields";
import { FlawLists } from "../parts/flaws";
import { Find, Narrowing, useNarrowing } from "../parts/paged";
import { Empty, List, Page, Panel, Shown, To } from "../ui";

/** Which versions, pools and hosts have a piece of software. */
export function SoftwarePage() {
  const [{ name, below, all }, narrow] = useNarrowing(["name", "below", "all"]);
  const holders = useQuery({
    queryKey: ["software", name, below, all],
    enabled: name !== "",
    queryFn: () =>
      call(
        api.GET("/api/v1/software", {
          params: { query: { name, below: below || undefined, all: all === "yes" || undefined } },
        }),
      ),
  });
  return (
    <Page
      title="Software"
      lead="Who still has it? Over all versions in use, with the pools and hosts that run them."
    >
      <Narrowing>
        <Find label="Software or its source, * for any text" value={name} onFind={(t) => narrow("name", t)} />
        <Find label="Below version" value={below} onFind={(t) => narrow("below", t)} />
        <Check
          checked={all === "yes"}
          set={(c) => narrow("all", c ? "yes" : "")}
          label="Versions that are not in use, too"
        />
      </Narrowing>
      <Panel>
        {name === "" ? (
          <Empty>Say the name of a piece of software, and below which version you look for it.</Empty>
        ) : (
          <Shown query={holders}>
            {({ items }) =>
              items.length === 0 ? (
                <Empty>
                  No version{all ? "" : " in use"} has {name}
                  {below && ` below ${below}`} in it.
                </Empty>
              ) : (
                <List label="Versions" head={["Version", "Has", "Named by", "Runs on"]}>
                  {items.map((h) => (
                    <Holder key={`${h.image} ${h.number}`} of={h} />
                  ))}
                </List>
              )
            }
          </Shown>
        )}
      </Panel>
      <FlawLists />
    </Page>
  );
}

function Holder({ of: h }: { of: SoftwareHolder }) {
  const has = [...new Set(h.has.map((e) => `${e.name} ${e.version ?? ""}`))];
  return (
    <Table.Row verticalAlign="top">
      <Table.Cell whiteSpace="nowrap">
        <To to={`/images/${h.image}/versions/${h.number}/software`}>
          {h.image} {h.number}
        </To>
      </Table.Cell>
      <Table.Cell overflowWrap="anywhere">
        {has.join(", ")}
        {h.unordered?.map((why) => (
          <Text key={why} color="fg.quiet" fontSize="sm">
            It is not known whether it is below: {why}.
          </Text>
        ))}
      </Table.Cell>
      <Table.Cell>{[...h.tracks, ...h.pinned.map((p) => `pin of ${p}`)].join(", ")}</Table.Cell>
      <Table.Cell>
        {h.pools.map((p) => (
          <Box key={p.pool} title={p.hosts.join(", ")}>
            <To to={`/pools/${p.pool}`}>{p.pool}</To> {count(p.hosts.length, "host")}
          </Box>
        ))}
      </Table.Cell>
    </Table.Row>
  );
}
