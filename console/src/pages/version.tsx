import { HStack, Table, Tabs, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link as RouterLink, useParams } from "react-router";
import { api, call, type Version } from "../api";
import { duration, time } from "../format";
import { came } from "../parts/deliveries";
import { FirstStart } from "../parts/first-start";
import { Flaws } from "../parts/flaws";
import { Provenance } from "../parts/provenance";
import { SoftwareList } from "../parts/software-list";
import { SystemFacts } from "../parts/system-facts";
import { Trial } from "../parts/trial";
import { VersionActs } from "../parts/version-acts";
import { stateOf, VersionFacts } from "../parts/version-facts";
import { Empty, List, Page, Panel, Shown, State, To } from "../ui";

const tabs = {
  "": "Version",
  software: "Software",
  flaws: "Flaws",
  system: "System",
  provenance: "Provenance",
  copies: "Copies",
};

/** One version: what it is and what is in it, where it is, how its trial stands and what was done with it. */
export function VersionPage() {
  const { image = "", number = "", tab = "" } = useParams();
  const version = useQuery({
    queryKey: ["versions", image, number],
    queryFn: () =>
      call(api.GET("/api/v1/images/{image}/versions/{number}", { params: { path: { image, number } } })),
  });
  return (
    <Page
      title={`${image} ${number}`}
      lead={
        <HStack gap="2" wrap="wrap">
          {version.data && <State of={stateOf(version.data)} />}
          {version.data && version.data.standing.length > 0 && (
            <span>{version.data.standing.join(", ")} ·</span>
          )}
          <span>
            a version of <To to={`/images/${image}`}>{image}</To>
          </span>
        </HStack>
      }
      actions={version.data && <VersionActs version={version.data} />}
    >
      <Shown query={version}>
        {(v) => (
          <Tabs.Root
            value={Object.hasOwn(tabs, tab) ? tab : ""}
            lazyMount
            unmountOnExit
            variant="line"
            size="sm"
          >
            <Tabs.List mb="4">
              {Object.entries(tabs).map(([of, name]) => (
                <Tabs.Trigger key={of} value={of} asChild>
                  <RouterLink to={`/images/${image}/versions/${number}${of && `/${of}`}`}>{name}</RouterLink>
                </Tabs.Trigger>
              ))}
            </Tabs.List>
            <Tabs.Content value="" p="0">
              <Panel title="Version">
                <VersionFacts version={v} />
              </Panel>
              <FirstStart version={v} />
              {v.standing.includes("pilot") && !v.standing.includes("live") && (
                <Trial image={image} number={number} />
              )}
              <Log subject={`version ${image} ${number}`} />
            </Tabs.Content>
            <Tabs.Content value="software" p="0">
              <SoftwareList version={v} />
            </Tabs.Content>
            <Tabs.Content value="flaws" p="0">
              <Flaws version={v} />
            </Tabs.Content>
            <Tabs.Content value="system" p="0">
              <SystemFacts version={v} />
            </Tabs.Content>
            <Tabs.Content value="provenance" p="0">
              <Provenance image={image} number={number} />
            </Tabs.Content>
            <Tabs.Content value="copies" p="0">
              <Copies version={v} />
            </Tabs.Content>
          </Tabs.Root>
        )}
      </Shown>
    </Page>
  );
}

function Copies({ version: v }: { version: Version }) {
  return (
    <Panel title="Copies" aside="Hosts are cloned from them. A delivery sends what the site lacks.">
      {v.copies.length === 0 ? (
        <Empty>It has no copy.</Empty>
      ) : (
        <List label="Copies" head={["Site", "Copy", "State", "How it came", "Took", "Found intact", "Why"]}>
          {v.copies.map((c) => (
            <Table.Row key={`${c.site} ${c.ordinal}`}>
              <Table.Cell whiteSpace="nowrap">
                <To to={`/sites/${c.site}`}>{c.site}</To>
              </Table.Cell>
              <Table.Cell>{c.ordinal}</Table.Cell>
              <Table.Cell>
                <HStack>
                  <State of={c.state} />
                  {c.state === "delivering" && <Text fontSize="xs">{c.progress}%</Text>}
                </HStack>
              </Table.Cell>
              <Table.Cell minW="200px">{came(c.delivery)}</Table.Cell>
              <Table.Cell whiteSpace="nowrap">
                {duration(c.delivery?.asked_at, c.delivery?.ended_at)}
              </Table.Cell>
              <Table.Cell whiteSpace="nowrap">
                {c.state === "present" && (c.read_at ? time(c.read_at) : "not read yet")}
              </Table.Cell>
              <Table.Cell>{c.failure}</Table.Cell>
            </Table.Row>
          ))}
        </List>
      )}
    </Panel>
  );
}

function Log({ subject }: { subject: string }) {
  const log = useQuery({
    queryKey: ["trail", subject],
    queryFn: () => call(api.GET("/api/v1/trail", { params: { query: { subject, limit: 100 } } })),
  });
  return (
    <Panel title="Log" aside="newest first, from the trail">
      <Shown query={log}>
        {({ items }) => (
          <List label="Log" head={["At", "What", "By", "Why"]}>
            {items.map((e) => (
              <Table.Row key={e.seq}>
                <Table.Cell whiteSpace="nowrap">{time(e.at)}</Table.Cell>
                <Table.Cell>{e.verb}</Table.Cell>
                <Table.Cell>{e.actor}</Table.Cell>
                <Table.Cell>{e.reason}</Table.Cell>
              </Table.Row>
            ))}
          </List>
        )}
      </Shown>
    </Panel>
  );
}
