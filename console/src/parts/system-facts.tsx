import { Box, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call, type Version } from "../api";
import { size } from "../format";
import { Facts, List, Panel, Shown, Words } from "../ui";

/** What is known of the system in a version beside its software. */
export function SystemFacts({ version: { image, number, software, unlisted } }: { version: Version }) {
  const facts = useQuery({
    queryKey: ["facts", image, number],
    enabled: !!software,
    queryFn: () =>
      call(
        api.GET("/api/v1/images/{image}/versions/{number}/facts", { params: { path: { image, number } } }),
      ),
  });
  if (!software) {
    return (
      <Panel title="System">
        <Words>{`Nothing is known of it: ${unlisted || "it is not sealed yet"}.`}</Words>
      </Panel>
    );
  }
  return (
    <Shown query={facts}>
      {(f) => (
        <>
          <Panel title="System">
            <Facts
              of={[
                ["System", f.system],
                ["Edition", f.edition],
                ["Kernel", f.kernel],
                ["Architecture", f.arch],
                ["Time zone", f.time_zone],
                ["Language", f.language],
                ["Agents", f.agents?.map((a) => `${a.name} ${a.version}`).join(", ")],
                [
                  "Disk in use",
                  f.disk?.used_bytes &&
                    size(f.disk.used_bytes) + (f.disk.size_bytes ? ` of ${size(f.disk.size_bytes)}` : ""),
                ],
              ]}
            />
          </Panel>
          <Panel title="Listened on">
            {f.ports?.length ? (
              <List label="Ports" head={["Port", "Address", "Program"]}>
                {f.ports.map((p) => (
                  <Table.Row key={`${p.protocol} ${p.port} ${p.address}`}>
                    <Table.Cell>
                      {p.protocol} {p.port}
                    </Table.Cell>
                    <Table.Cell>{p.address}</Table.Cell>
                    <Table.Cell>{p.program}</Table.Cell>
                  </Table.Row>
                ))}
              </List>
            ) : (
              <Text color="fg.quiet">Nothing was seen to listen.</Text>
            )}
          </Panel>
          <Panel title="Services that start by themselves">
            <Box columnWidth="260px">
              {f.services?.map((s) => (
                <Text key={s} overflowWrap="anywhere">
                  {s}
                </Text>
              ))}
            </Box>
          </Panel>
          <Panel title="Largest folders">
            <List label="Folders" head={["Folder", "Takes"]}>
              {f.disk?.folders?.map((d) => (
                <Table.Row key={d.path}>
                  <Table.Cell>{d.path}</Table.Cell>
                  <Table.Cell>{size(d.size_bytes)}</Table.Cell>
                </Table.Row>
              ))}
            </List>
          </Panel>
          <Panel title="Local accounts" aside="who could sign in, as far as can be seen">
            <List label="Accounts" head={["Account", "Number", "Home", "Shell", "Can sign in"]}>
              {f.accounts?.map((a) => (
                <Table.Row key={a.name}>
                  <Table.Cell>{a.name}</Table.Cell>
                  <Table.Cell>{a.id}</Table.Cell>
                  <Table.Cell>{a.home}</Table.Cell>
                  <Table.Cell>{a.shell}</Table.Cell>
                  <Table.Cell>{a.signs ? "yes" : ""}</Table.Cell>
                </Table.Row>
              ))}
            </List>
          </Panel>
        </>
      )}
    </Shown>
  );
}
