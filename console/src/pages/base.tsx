import { Code, Table } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useNavigate, useParams } from "react-router";
import { api, call } from "../api";
import { size, time } from "../format";
import { Coming } from "../parts/bring-base";
import { Compared, titled } from "../parts/feeds";
import { useSigned } from "../session";
import { Act, Empty, Facts, List, Page, Panel, Shown, State, To } from "../ui";

/** One base: how far it is, what is in it, and where it is. */
export function BasePage() {
  const name = useParams().base ?? "";
  const { may } = useSigned();
  const queries = useQueryClient();
  const go = useNavigate();
  const base = useQuery({
    queryKey: ["bases", name],
    queryFn: () => call(api.GET("/api/v1/bases/{base}", { params: { path: { base: name } } })),
  });
  return (
    <Page
      title={`Base ${name}`}
      lead="A disk image that versions are made from."
      actions={
        base.data &&
        may("operator") && (
          <Act
            label="Retire"
            title={`Retire ${name}`}
            danger
            reason="wanted"
            done={`${name} is retired.`}
            run={async (reason) => {
              await call(
                api.POST("/api/v1/bases/{base}/retire", {
                  params: { path: { base: name } },
                  body: { reason },
                }),
              );
              await queries.invalidateQueries({ queryKey: ["bases"] });
              go("/bases");
            }}
          >
            Its disk is deleted here and at all sites. Versions that were made from it stay as they are.
          </Act>
        )
      }
    >
      <Shown query={base}>
        {(b) => {
          const coming = ["receiving", "fetching", "converting"].includes(b.state);
          return (
            <>
              <Panel title="Base" aside={<State of={b.state} />}>
                {coming && <Coming of={b} />}
                <Facts
                  of={[
                    ["Why", !coming && b.why],
                    ["Is", titled(b.labels)],
                    ["Release", b.feed && `${b.serial} of feed ${b.feed}`],
                    ["From", b.address || b.file],
                    ["File", [b.size && size(b.size), b.format].filter(Boolean).join(", ")],
                    ["SHA-256", (b.sha256 || b.expected) && <Code>{b.sha256 || b.expected}</Code>],
                    ["Takes", !!b.bytes && size(b.bytes)],
                    ["Added", `${time(b.added_at)} by ${b.added_by}`],
                    ["In a build sheet", b.state === "ready" && <Code>{`base: {named: ${b.name}}`}</Code>],
                  ]}
                />
              </Panel>
              {b.state === "ready" && (
                <Panel title="What is in it">
                  <Facts
                    of={[
                      ["Disk", size(b.facts.disk_size)],
                      ["Started by", b.facts.firmware?.join(", ") || "that cannot be seen"],
                      ["Encrypted", b.facts.encrypted?.join(", ")],
                      ["System", b.facts.edition || b.facts.system || "that cannot be seen"],
                      ["Its release", b.facts.release],
                      ["Architecture", b.facts.architecture],
                      ["Inside", b.facts.agents?.join(", ")],
                    ]}
                  />
                </Panel>
              )}
              {b.newer && b.state === "ready" && <Compared base={b} newest={b.newer} />}
              <Panel title="Where it is">
                {b.copies.length ? (
                  <List label="Copies" head={["Site", "State"]}>
                    {b.copies.map((c) => (
                      <Table.Row key={c.site}>
                        <Table.Cell>
                          <To to={`/sites/${c.site}`}>{c.site}</To>
                        </Table.Cell>
                        <Table.Cell>
                          <State of={c.state} /> {c.state === "delivering" && `${c.progress}%`} {c.why}
                        </Table.Cell>
                      </Table.Row>
                    ))}
                  </List>
                ) : (
                  <Empty>
                    It is at no site yet: it is brought to one when the first machine is made of it there.
                  </Empty>
                )}
              </Panel>
            </>
          );
        }}
      </Shown>
    </Page>
  );
}
