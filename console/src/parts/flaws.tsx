import { HStack, Input, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import {
  api,
  type ComparisonFlaws,
  call,
  type FlawFound,
  type FlawGap,
  type FlawList,
  type Version,
} from "../api";
import { count, time } from "../format";
import { useSigned } from "../session";
import { Act, Empty, FormDialog, List, Panel, Shown, State } from "../ui";
import { Labelled } from "./fields";

/** The known flaws of what is in a version. */
export function Flaws({ version: { image, number } }: { version: Version }) {
  const flaws = useQuery({
    queryKey: ["flaws", image, number],
    queryFn: () =>
      call(
        api.GET("/api/v1/images/{image}/versions/{number}/flaws", { params: { path: { image, number } } }),
      ),
  });
  return (
    <>
      <Panel
        title="Known flaws"
        aside={
          flaws.data &&
          !flaws.data.unknown &&
          `${count(flaws.data.items.length, "flaw")}, ${flaws.data.serious} serious`
        }
      >
        <Shown query={flaws}>
          {(f) =>
            f.unknown ? (
              <Empty>It is not known which it has: {f.unknown}.</Empty>
            ) : f.items.length === 0 ? (
              <Empty>No known vulnerabilities were found in the software that was checked.</Empty>
            ) : (
              <Found label="Known flaws" of={f.items} />
            )
          }
        </Shown>
      </Panel>
      <NotChecked of={flaws.data?.not_checked ?? []} image={image} />
    </>
  );
}

/** Software that no list of known vulnerabilities covers, and whether its image accepts that. */
function NotChecked({ of, image }: { of: FlawGap[]; image: string }) {
  const { may } = useSigned();
  const accepted = useQuery({
    queryKey: ["image", image],
    queryFn: () => call(api.GET("/api/v1/images/{image}", { params: { path: { image } } })),
    enabled: of.length > 0,
  });
  const post = (ecosystem: string, withdraw: boolean) => (reason: string) =>
    call(
      api.POST("/api/v1/images/{image}/accept-unchecked", {
        params: { path: { image } },
        body: { ecosystem, reason, withdraw },
      }),
    );
  if (of.length === 0) return null;
  return (
    <Panel title="Not checked" aside="No list of known vulnerabilities covers it.">
      <List label="Not checked" head={["Ecosystem", "Software", "Such as", `Accepted for ${image}`]}>
        {of.map((g) => {
          const why = accepted.data?.accepted_unchecked[g.ecosystem];
          return (
            <Table.Row key={g.ecosystem} verticalAlign="top">
              <Table.Cell>{g.ecosystem}</Table.Cell>
              <Table.Cell>{g.software}</Table.Cell>
              <Table.Cell overflowWrap="anywhere">{g.such_as.join(", ")}</Table.Cell>
              <Table.Cell overflowWrap="anywhere">
                <HStack justify="space-between">
                  <Text>{why ?? "no"}</Text>
                  {may("approver") &&
                    accepted.data &&
                    (why ? (
                      <Act
                        label="Withdraw"
                        title={`Withdraw that ${g.ecosystem} is accepted`}
                        reason="wanted"
                        run={post(g.ecosystem, true)}
                        done={`${g.ecosystem} is no longer accepted.`}
                      />
                    ) : (
                      <Act
                        label="Accept"
                        title={`Accept ${g.ecosystem} without a check`}
                        reason="needed"
                        run={post(g.ecosystem, false)}
                        done={`${g.ecosystem} is accepted.`}
                      />
                    ))}
                </HStack>
              </Table.Cell>
            </Table.Row>
          );
        })}
      </List>
    </Panel>
  );
}

function Found({ label, of }: { label: string; of: FlawFound[] }) {
  return (
    <List label={label} head={["Severity", "Flaw", "In", "Mended in", "What"]}>
      {of.map((f) => (
        <Table.Row key={`${f.id} ${f.package} ${f.version}`} verticalAlign="top">
          <Table.Cell whiteSpace="nowrap">
            <HStack>
              <State of={f.severity} />
              {f.score && (
                <Text fontSize="xs" fontVariantNumeric="tabular-nums">
                  {f.score.toFixed(1)}
                </Text>
              )}
            </HStack>
          </Table.Cell>
          <Table.Cell overflowWrap="anywhere">
            {f.links?.length ? (
              <a href={f.links[0]} target="_blank" rel="noreferrer noopener">
                <Text as="span" textDecoration="underline">
                  {f.id}
                </Text>
              </a>
            ) : (
              f.id
            )}
            {!!f.records?.length && (
              <Text color="fg.quiet" fontSize="sm">
                also {f.records.join(", ")}
              </Text>
            )}
            {!!f.advisories?.length && (
              <Text color="fg.quiet" fontSize="sm">
                in {f.advisories.join(", ")}
              </Text>
            )}
          </Table.Cell>
          <Table.Cell overflowWrap="anywhere">
            {f.package} {f.version}
            {f.software.join() !== `${f.package} ${f.version}` && (
              <Text color="fg.quiet" fontSize="sm">
                {f.software.join(", ")}
              </Text>
            )}
          </Table.Cell>
          <Table.Cell overflowWrap="anywhere">{f.fixed}</Table.Cell>
          <Table.Cell overflowWrap="anywhere">
            {f.summary}
            {f.perhaps && (
              <Text color="fg.quiet" fontSize="sm">
                It is perhaps not there: {f.perhaps}.
              </Text>
            )}
          </Table.Cell>
        </Table.Row>
      ))}
    </List>
  );
}

/** Which known flaws a version mends, and which it brings. */
export function FlawsCompared({ of: f, image }: { of: ComparisonFlaws; image: string }) {
  if (f.unknown)
    return (
      <Panel title="Known flaws">
        <Empty>They are not compared: {f.unknown}.</Empty>
      </Panel>
    );
  const aside = f.same > 0 && `${count(f.same, "flaw")} ${f.same === 1 ? "is" : "are"} in both`;
  return (
    <>
      {f.brings.length > 0 && (
        <Panel title="Known flaws that it brings" aside={aside}>
          <Found label="Known flaws that it brings" of={f.brings} />
        </Panel>
      )}
      {f.mends.length > 0 && (
        <Panel title="Known flaws that it mends" aside={f.brings.length === 0 && aside}>
          <Found label="Known flaws that it mends" of={f.mends} />
        </Panel>
      )}
      <NotChecked of={f.not_checked} image={image} />
    </>
  );
}

/** The lists of known flaws that versions are held against. */
export function FlawLists() {
  const { may } = useSigned();
  const lists = useQuery({
    queryKey: ["flaw-lists"],
    queryFn: () => call(api.GET("/api/v1/flaw-lists")),
  });
  return (
    <Panel title="Lists of known flaws" aside={may("operator") && <Load />}>
      <Shown query={lists}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>No list was loaded. Versions are held against lists in the OSV format.</Empty>
          ) : (
            <List label="Lists of known flaws" head={["List", "Records", "Loaded", "By", "Actions"]}>
              {items.map((l) => (
                <Row key={l.name} of={l} />
              ))}
            </List>
          )
        }
      </Shown>
    </Panel>
  );
}

function Row({ of: l }: { of: FlawList }) {
  const { may } = useSigned();
  return (
    <Table.Row>
      <Table.Cell fontWeight="500">{l.name}</Table.Cell>
      <Table.Cell fontVariantNumeric="tabular-nums">{l.records}</Table.Cell>
      <Table.Cell whiteSpace="nowrap">{time(l.loaded_at)}</Table.Cell>
      <Table.Cell>{l.loaded_by}</Table.Cell>
      <Table.Cell>
        {may("operator") && (
          <Act
            label="Delete"
            title={`Delete flaw list ${l.name}`}
            danger
            done={`Flaw list ${l.name} is deleted.`}
            run={() => call(api.DELETE("/api/v1/flaw-lists/{list}", { params: { path: { list: l.name } } }))}
          >
            What only it knows of versions is not known then.
          </Act>
        )}
      </Table.Cell>
    </Table.Row>
  );
}

function Load() {
  const [name, setName] = useState("");
  const [file, setFile] = useState<File>();
  return (
    <FormDialog
      label="Load a list"
      title="Load a list of known flaws"
      done="The list is loaded."
      onOpen={() => setFile(undefined)}
      submit={async () => {
        if (!file) throw new Error("Choose a file first.");
        await call(
          api.PUT("/api/v1/flaw-lists/{list}", {
            params: { path: { list: name } },
            body: (await file.arrayBuffer()) as never,
            bodySerializer: (b) => b as unknown as string,
            headers: { "Content-Type": "application/octet-stream" },
          }),
        );
      }}
    >
      <Text>
        A zip with records in the OSV format, or one file that is a record or an array of them. It takes the
        place of the list that has the name.
      </Text>
      <Labelled label="Name" required>
        <Input value={name} onChange={(e) => setName(e.target.value)} />
      </Labelled>
      <input
        type="file"
        aria-label="File"
        accept=".json,.zip"
        onChange={(e) => setFile(e.target.files?.[0])}
      />
    </FormDialog>
  );
}
