import { Box, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, call, type Version } from "../api";
import { count, day } from "../format";
import { Capture } from "../parts/capture";
import { Deliveries } from "../parts/deliveries";
import { GoingBack } from "../parts/readiness";
import { RollBack } from "../parts/roll-back";
import { Tracks } from "../parts/tracks";
import { Trial } from "../parts/trial";
import { VersionActs } from "../parts/version-acts";
import { copiesOf, stateOf } from "../parts/version-facts";
import { useSigned } from "../session";
import { Empty, List, Page, Panel, Shown, State, To } from "../ui";

export function ImagePage() {
  const name = useParams().image ?? "";
  const { may } = useSigned();
  const path = { params: { path: { image: name } } };
  const image = useQuery({
    queryKey: ["images", name],
    queryFn: () => call(api.GET("/api/v1/images/{image}", path)),
  });
  const versions = useQuery({
    queryKey: ["versions", name],
    queryFn: () => call(api.GET("/api/v1/images/{image}/versions", path)),
  });
  return (
    <Page
      title={name}
      lead={
        image.data &&
        `${image.data.title} · ${image.data.machine_class} machines · clearance: ${count(image.data.testers, "tester")}, ${image.data.soak} on pilot, ${image.data.copies} copies per site${image.data.keep_applications ? ", no application missing" : ""}${image.data.no_downgrades ? ", no software older" : ""}${image.data.no_serious_flaws ? ", no new serious flaw" : ""}`
      }
      actions={
        image.data && (
          <>
            <To to={`/images/${name}/settings`}>Settings</To>
            {may("operator") && <Capture image={image.data} />}
            {may("approver") && <RollBack image={image.data} />}
          </>
        )
      }
    >
      <Shown query={image}>
        {(i) => (
          <>
            <Panel title="Tracks">
              <Tracks image={i} />
            </Panel>
            {i.tracks[i.tracks.length - 1].version && <GoingBack image={i.name} />}
            {i.tracks[0].version && i.tracks[0].version !== i.tracks[i.tracks.length - 1].version && (
              <Trial image={i.name} number={i.tracks[0].version} />
            )}
          </>
        )}
      </Shown>
      <Deliveries of={{ image: name }} quiet />
      <Panel title="Versions" aside="newest first">
        <Shown query={versions}>
          {({ items }) =>
            items.length === 0 ? (
              <Empty>There is no version yet. Capture one from a build machine.</Empty>
            ) : (
              <List
                label="Versions"
                head={["Version", "State", "Standing", "Hosts", "Copies", "End-of-life", "Notes", "Actions"]}
              >
                {items.map((v) => (
                  <VersionRow key={v.number} version={v} />
                ))}
              </List>
            )
          }
        </Shown>
      </Panel>
    </Page>
  );
}

function VersionRow({ version: v }: { version: Version }) {
  return (
    <Table.Row verticalAlign="top">
      <Table.Cell fontWeight="600" fontVariantNumeric="tabular-nums" whiteSpace="nowrap">
        <To to={`/images/${v.image}/versions/${v.number}`}>{v.number}</To>
      </Table.Cell>
      <Table.Cell>
        <State of={stateOf(v)} />
        {v.state === "capturing" && <Text fontSize="xs">{v.progress}%</Text>}
      </Table.Cell>
      <Table.Cell>{v.standing.join(", ")}</Table.Cell>
      <Table.Cell>{v.hosts || ""}</Table.Cell>
      <Table.Cell fontSize="sm">
        {copiesOf(v).map((c, i) => (
          <span key={c}>
            {i > 0 && ", "}
            <Box as="span" whiteSpace="nowrap">
              {c}
            </Box>
          </span>
        ))}
      </Table.Cell>
      <Table.Cell whiteSpace="nowrap">{day(v.end_of_life)}</Table.Cell>
      <Table.Cell maxW="260px">{v.barred || v.failure || v.notes}</Table.Cell>
      <Table.Cell>
        <VersionActs version={v} />
      </Table.Cell>
    </Table.Row>
  );
}
