import { Table } from "@chakra-ui/react";
import { api, type Build, call } from "../api";
import { time } from "../format";
import { Pages, usePages } from "../parts/paged";
import { StartBuild } from "../parts/start-build";
import { useSigned } from "../session";
import { List, Page, State, To } from "../ui";

export function BuildsPage() {
  const { may } = useSigned();
  const builds = usePages<Build>(["builds"], (cursor) =>
    call(api.GET("/api/v1/builds", { params: { query: { limit: 50, cursor } } })),
  );
  return (
    <Page
      title="Builds"
      lead="Versions are made by build sheets: a machine is made, changed step by step, sealed and captured."
      actions={may("operator") && <StartBuild />}
    >
      <Pages query={builds} empty="Nothing was built yet." more="Show older ones">
        {(items) => (
          <List
            label="Builds"
            head={["Build", "Image", "Version", "State", "Steps", "From", "Site", "Started", "Ended", "By"]}
          >
            {items.map((b) => (
              <Table.Row key={b.id}>
                <Table.Cell>
                  <To to={`/builds/${b.id}`}>{String(b.id)}</To>
                </Table.Cell>
                <Table.Cell>
                  <To to={`/images/${b.image}`}>{b.image}</To>
                </Table.Cell>
                <Table.Cell>
                  {b.version && <To to={`/images/${b.image}/versions/${b.version}`}>{b.version}</To>}
                </Table.Cell>
                <Table.Cell>
                  <State of={b.state} />
                </Table.Cell>
                <Table.Cell whiteSpace="nowrap">
                  {b.done} of {b.total}
                </Table.Cell>
                <Table.Cell>{b.base}</Table.Cell>
                <Table.Cell>
                  <To to={`/sites/${b.site}`}>{b.site}</To>
                </Table.Cell>
                <Table.Cell whiteSpace="nowrap">{time(b.started_at)}</Table.Cell>
                <Table.Cell whiteSpace="nowrap">{time(b.ended_at)}</Table.Cell>
                <Table.Cell>{b.started_by}</Table.Cell>
              </Table.Row>
            ))}
          </List>
        )}
      </Pages>
    </Page>
  );
}
