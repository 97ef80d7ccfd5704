import { Input, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, call } from "../api";
import { count, time } from "../format";
import { FileChoice, Labelled } from "../parts/fields";
import { FollowRepository } from "../parts/repository";
import { useSigned } from "../session";
import { Empty, FormDialog, List, Page, Panel, Shown, State, To } from "../ui";

/** The build sheets that the service keeps. */
export function SheetsPage() {
  const { may } = useSigned();
  const sheets = useQuery({ queryKey: ["sheets"], queryFn: () => call(api.GET("/api/v1/sheets")) });
  return (
    <Page
      title="Sheets"
      lead="A build sheet says once how an image is made, and has it made again every month."
      actions={
        may("operator") && (
          <>
            <FollowRepository />
            <NewSheet />
          </>
        )
      }
    >
      <Panel>
        <Shown query={sheets}>
          {({ items }) =>
            items.length === 0 ? (
              <Empty>None is kept here yet.</Empty>
            ) : (
              <List
                label="Sheets"
                head={[
                  "Sheet",
                  "Image",
                  "Steps",
                  "Right",
                  "Commit",
                  "Last build",
                  "Its version",
                  "Changed",
                  "By",
                ]}
              >
                {items.map((s) => (
                  <Table.Row key={s.name}>
                    <Table.Cell>
                      <To to={`/sheets/${s.name}`}>{s.name}</To>
                    </Table.Cell>
                    <Table.Cell>{s.image && <To to={`/images/${s.image}`}>{s.image}</To>}</Table.Cell>
                    <Table.Cell>{s.steps}</Table.Cell>
                    <Table.Cell>
                      {s.problems === 0 ? (
                        "yes"
                      ) : (
                        <Text as="span" color="red.fg" fontWeight="600">
                          wrong in {count(s.problems, "place")}
                        </Text>
                      )}
                    </Table.Cell>
                    <Table.Cell>
                      {s.commit?.slice(0, 12)}
                      {s.repository?.why && (
                        <Text as="span" color="red.fg" display="block">
                          cannot be taken from its repository
                        </Text>
                      )}
                    </Table.Cell>
                    <Table.Cell whiteSpace="nowrap">
                      {s.build && <To to={`/builds/${s.build}`}>{String(s.build)}</To>}{" "}
                      {s.build_state && <State of={s.build_state} />}
                    </Table.Cell>
                    <Table.Cell>
                      {s.build_version && (
                        <To to={`/images/${s.image}/versions/${s.build_version}`}>{s.build_version}</To>
                      )}
                    </Table.Cell>
                    <Table.Cell whiteSpace="nowrap">{time(s.changed_at)}</Table.Cell>
                    <Table.Cell>{s.changed_by}</Table.Cell>
                  </Table.Row>
                ))}
              </List>
            )
          }
        </Shown>
      </Panel>
    </Page>
  );
}

const starter = `# How the image is made every month.
image:
base: {track: live} # what is in use
machine: {site: }

steps: []

version:
  end-of-life: in 6 months
`;

function NewSheet() {
  const [name, setName] = useState("");
  const [text, setText] = useState("");
  const go = useNavigate();
  return (
    <FormDialog
      label="New sheet"
      title="A new sheet"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      onOpen={() => {
        setName("");
        setText("");
      }}
      submit={async () => {
        await call(
          api.PUT("/api/v1/sheets/{sheet}", {
            params: { path: { sheet: name.trim() }, header: { "If-Match": '"0"' } },
            body: { text: text || starter },
          }),
        );
        void go(`/sheets/${name.trim()}`);
      }}
    >
      <Labelled label="Name" required help="Small letters, digits and dashes, such as counter-desk">
        <Input value={name} onChange={(e) => setName(e.target.value)} />
      </Labelled>
      <FileChoice label="A file to begin with" read={setText} />
      {text && <Text fontSize="sm">It begins with the file, {count(text.split("\n").length, "line")}.</Text>}
    </FormDialog>
  );
}
