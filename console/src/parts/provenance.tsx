import { Alert, Box, Button, HStack, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call, type Version } from "../api";
import { shortDigest, time } from "../format";
import { Facts, List, Panel, Reasons, Shown, Words } from "../ui";

type Rows = Record<string, string | boolean>[];
type ManualWork = {
  at: string;
  actor: string;
  act: string;
  reason?: string;
  detail?: Record<string, unknown>;
};

/** How a version was made, as it was signed, and whether that can be trusted. */
export function Provenance({ image, number }: Pick<Version, "image" | "number">) {
  const provenance = useQuery({
    queryKey: ["provenance", image, number],
    queryFn: () =>
      call(
        api.GET("/api/v1/images/{image}/versions/{number}/provenance", {
          params: { path: { image, number } },
        }),
      ),
  });
  return (
    <Shown query={provenance}>
      {(p) => {
        const told = p.told ?? {};
        const sheet = (told.sheet ?? {}) as Record<string, string>;
        const parameters = Object.entries((told.parameters ?? {}) as Record<string, string>);
        const steps = (p.did?.steps ?? []) as Rows;
        const manual = (p.did?.manual_work ?? []) as ManualWork[];
        const checks = (p.did?.seal_checks ?? []) as Rows;
        return (
          <>
            {p.wrong.length > 0 ? (
              <Alert.Root status="error" variant="surface" mb="4" role="alert">
                <Alert.Indicator />
                <Alert.Content>
                  <Alert.Title>It is not to be trusted.</Alert.Title>
                  <Reasons of={p.wrong} />
                </Alert.Content>
              </Alert.Root>
            ) : (
              <HStack mb="4" justify="space-between" wrap="wrap">
                <Text>It was signed when it was sealed, and the records say what was signed.</Text>
                <HStack>
                  <Button asChild size="xs" variant="outline">
                    <a href={`/api/v1/images/${image}/versions/${number}/provenance/document`} download>
                      Download as it was signed
                    </a>
                  </Button>
                  <Button asChild size="xs" variant="outline">
                    <a href="/api/v1/signing-keys" download>
                      Download the keys
                    </a>
                  </Button>
                </HStack>
              </HStack>
            )}
            <Panel title="Made">
              <Facts
                of={[
                  [
                    "How",
                    p.by_sheet
                      ? p.manual_work
                        ? "by a build sheet, with manual work"
                        : "by a build sheet"
                      : "captured by hand",
                  ],
                  ["As", p.run],
                  ["By", p.builder],
                  ["Captured by", String(told.captured_by ?? "")],
                  ["Started by", String(told.started_by ?? "")],
                  ["Schedule", String(told.schedule ?? "")],
                  ["Began", time(p.began)],
                  ["Ended", time(p.ended)],
                  ["Sheet", sheet.name],
                  ["Commit", sheet.commit],
                  ["Parameters", parameters.map(([name, value]) => `${name} = ${value}`).join(", ")],
                  ["Disk", <code key="d">{p.digest}</code>],
                  ["Signed with", <code key="k">{p.key_id}</code>],
                ]}
              />
            </Panel>
            <Panel title="What went into it">
              <Things of={[...p.from, ...p.brought.map((b) => ({ ...b, name: `${b.name} (came of it)` }))]} />
            </Panel>
            {steps.length > 0 && (
              <Panel title="Steps">
                <List label="Steps" head={["Step", "What it did", "Result", "SHA-256"]}>
                  {steps.map((s) => (
                    <Table.Row key={String(s.name)} verticalAlign="top">
                      <Table.Cell>{s.name}</Table.Cell>
                      <Table.Cell>
                        <Words>{String(s.does)}</Words>
                      </Table.Cell>
                      <Table.Cell>
                        {s.result}
                        {s.failure && `: ${s.failure}`}
                      </Table.Cell>
                      <Table.Cell>
                        <code title={String(s.sha256)}>{shortDigest(String(s.sha256))}</code>
                      </Table.Cell>
                    </Table.Row>
                  ))}
                </List>
              </Panel>
            )}
            {manual.length > 0 && (
              <Panel title="Manual work">
                <List label="Manual work" head={["When", "Who", "Act", "Details"]}>
                  {manual.map((w) => (
                    <Table.Row key={`${w.at} ${w.act}`} verticalAlign="top">
                      <Table.Cell>{time(w.at)}</Table.Cell>
                      <Table.Cell>{w.actor}</Table.Cell>
                      <Table.Cell>{w.act}</Table.Cell>
                      <Table.Cell overflowWrap="anywhere">
                        {Object.entries(w.detail ?? {})
                          .map(([name, value]) => `${name}: ${value}`)
                          .concat(w.reason ?? [])
                          .join("; ")}
                      </Table.Cell>
                    </Table.Row>
                  ))}
                </List>
              </Panel>
            )}
            {checks.length > 0 && (
              <Panel title="Seal checks">
                {checks.map((f) => (
                  <Box key={String(f.check)}>
                    {f.check} {f.severity}: {f.evidence}
                    {f.waived && `; passed over: ${f.waived}`}
                  </Box>
                ))}
              </Panel>
            )}
          </>
        );
      }}
    </Shown>
  );
}

function Things({ of }: { of: { name: string; uri?: string; sha256?: string }[] }) {
  return (
    <List label="Things" head={["What", "From", "SHA-256"]}>
      {of.map((t) => (
        <Table.Row key={`${t.name} ${t.sha256}`} verticalAlign="top">
          <Table.Cell>{t.name}</Table.Cell>
          <Table.Cell overflowWrap="anywhere">{t.uri}</Table.Cell>
          <Table.Cell>
            {t.sha256 ? <code title={t.sha256}>{shortDigest(t.sha256)}</code> : "not known"}
          </Table.Cell>
        </Table.Row>
      ))}
    </List>
  );
}
