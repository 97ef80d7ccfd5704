import { Table } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, call } from "../api";
import { count } from "../format";
import { Retention } from "../parts/retention";
import { Empty, Facts, List, Page, Panel, Shown, To, Words } from "../ui";

/** What holds for an image: what is kept of it, how many copies its sites get, and what its estate file says. */
export function ImageSettingsPage() {
  const name = useParams().image ?? "";
  const image = useQuery({
    queryKey: ["images", name],
    queryFn: () => call(api.GET("/api/v1/images/{image}", { params: { path: { image: name } } })),
  });
  return (
    <Page title={`Settings of ${name}`} lead={<To to={`/images/${name}`}>{name}</To>}>
      <Shown query={image}>
        {(i) => (
          <>
            <Retention image={name} />
            <Panel title="Copies" aside="of a version, at each site with a pool of it">
              {i.copy_plans.length === 0 ? (
                <Empty>No site has a pool of it yet.</Empty>
              ) : (
                <List label="Copies" head={["Site", "Copies", "Why"]}>
                  {i.copy_plans.map((p) => (
                    <Table.Row key={p.site} verticalAlign="top">
                      <Table.Cell whiteSpace="nowrap">
                        <To to={`/sites/${p.site}`}>{p.site}</To>
                      </Table.Cell>
                      <Table.Cell fontVariantNumeric="tabular-nums">{p.copies}</Table.Cell>
                      <Table.Cell>
                        <Words>{p.why}</Words>
                      </Table.Cell>
                    </Table.Row>
                  ))}
                </List>
              )}
            </Panel>
            <Panel
              title="From the estate file"
              aside={
                <>
                  what stands in the <To to="/estate">estate file</To> is changed there
                </>
              }
            >
              <Facts
                of={[
                  ["Title", i.title],
                  ["Numbering", i.numbering],
                  ["Machine class", i.machine_class],
                  ["Tracks", i.tracks.map((t) => t.name).join(", ")],
                  [
                    "Clearance",
                    [
                      count(i.testers, "tester"),
                      `${i.soak} on pilot`,
                      `${i.copies === 1 ? "a copy" : `${i.copies} copies`} at each site`,
                      i.keep_applications && "no application missing",
                      i.no_downgrades && "no software older",
                      i.no_serious_flaws && "no new serious flaw",
                      i.independent && "testers who did not make the version",
                    ]
                      .filter(Boolean)
                      .join(", "),
                  ],
                  ["Build logs", `kept for ${i.build_logs}`],
                  [
                    "Pilot pools",
                    i.roll_pilot
                      ? "rolled over when a build has staged a version"
                      : "rolled over by hand when a version is staged",
                  ],
                ]}
              />
            </Panel>
          </>
        )}
      </Shown>
    </Page>
  );
}
