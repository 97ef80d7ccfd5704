import { Alert, Box, Button, Clipboard, Code, HStack, Input, NativeSelect, Table } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, type MadeToken } from "../api";
import { day } from "../format";
import { Check, Labelled } from "../parts/fields";
import { roles, useSigned } from "../session";
import { Act, Empty, FormDialog, List, Page, Panel, Shown } from "../ui";

/** The bearer tokens of who is signed in. */
export function TokensPage() {
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => call(api.GET("/api/v1/tokens")) });
  const queries = useQueryClient();
  const again = () => queries.invalidateQueries({ queryKey: ["tokens"] });
  const [made, setMade] = useState<MadeToken>();
  return (
    <Page
      title="Tokens"
      lead="What programs sign in with in your name. A token may do no more than you, and ends when your password changes."
      actions={
        <MakeToken
          onMade={(t) => {
            setMade(t);
            void again();
          }}
        />
      }
    >
      {made && <Secret of={made} onDone={() => setMade(undefined)} />}
      <Panel>
        <Shown query={tokens}>
          {({ items }) => {
            const good = items.filter((t) => !t.revoked_at);
            return good.length === 0 ? (
              <Empty>You have no token.</Empty>
            ) : (
              <List label="Tokens" head={["Name", "May", "Changes only", "Made", "Ends", "Acts"]}>
                {good.map((t) => (
                  <Table.Row key={t.id}>
                    <Table.Cell fontWeight="500">{t.name}</Table.Cell>
                    <Table.Cell>{t.role || "all that you may"}</Table.Cell>
                    <Table.Cell>{[...t.pools, ...t.images].join(", ")}</Table.Cell>
                    <Table.Cell whiteSpace="nowrap">{day(t.created_at)}</Table.Cell>
                    <Table.Cell whiteSpace="nowrap">{day(t.expires_at)}</Table.Cell>
                    <Table.Cell>
                      <Act
                        label="Revoke"
                        title={`Revoke ${t.name}`}
                        danger
                        done={`${t.name} is no good any more.`}
                        run={async () => {
                          await call(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id: t.id } } }));
                          await again();
                        }}
                      >
                        Whatever uses it is turned away from now on, and so are the tokens that were made with
                        it.
                      </Act>
                    </Table.Cell>
                  </Table.Row>
                ))}
              </List>
            );
          }}
        </Shown>
      </Panel>
    </Page>
  );
}

/** A new token's secret, which is shown this once. */
function Secret({ of: t, onDone }: { of: MadeToken; onDone: () => void }) {
  return (
    <Alert.Root status="success" variant="surface" mb="4">
      <Alert.Indicator />
      <Alert.Content>
        <Alert.Title>
          The secret of {t.name} is shown this once. Keep it where only your program can read.
        </Alert.Title>
        <Alert.Description>
          <Clipboard.Root value={t.secret}>
            <HStack wrap="wrap">
              <Code overflowWrap="anywhere">{t.secret}</Code>
              <Clipboard.Trigger asChild>
                <Button size="xs" variant="outline">
                  <Clipboard.Indicator copied="Copied">Copy</Clipboard.Indicator>
                </Button>
              </Clipboard.Trigger>
              <Button size="xs" variant="outline" onClick={onDone}>
                I have it
              </Button>
            </HStack>
          </Clipboard.Root>
        </Alert.Description>
      </Alert.Content>
    </Alert.Root>
  );
}

function MakeToken({ onMade }: { onMade: (t: MadeToken) => void }) {
  const { account } = useSigned();
  const [name, setName] = useState("");
  const [days, setDays] = useState("90");
  const [role, setRole] = useState("");
  const [pools, setPools] = useState<string[]>([]);
  const [images, setImages] = useState<string[]>([]);
  const allPools = useQuery({ queryKey: ["pools"], queryFn: () => call(api.GET("/api/v1/pools")) });
  const allImages = useQuery({ queryKey: ["images"], queryFn: () => call(api.GET("/api/v1/images")) });
  const mine = roles.slice(0, roles.indexOf(account.role) + 1);
  const choose = (list: string[], set: (to: string[]) => void, one: string) => (on: boolean) =>
    set(on ? [...list, one] : list.filter((x) => x !== one));
  return (
    <FormDialog
      label="Make a token"
      actLabel="Make it"
      title="Make a token"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      onOpen={() => {
        setName("");
        setDays("90");
        setRole("");
        setPools([]);
        setImages([]);
      }}
      submit={async () =>
        onMade(
          await call(
            api.POST("/api/v1/tokens", {
              body: {
                name,
                days: Number(days),
                role: (role || undefined) as (typeof mine)[number] | undefined,
                pools,
                images,
              },
            }),
          ),
        )
      }
    >
      <Labelled label="Name" help="What it is for" required>
        <Input value={name} onChange={(e) => setName(e.target.value)} />
      </Labelled>
      <Labelled label="Days until it ends" required>
        <Input type="number" min={1} max={366} value={days} onChange={(e) => setDays(e.target.value)} />
      </Labelled>
      <Labelled label="May do at most what this role may">
        <NativeSelect.Root>
          <NativeSelect.Field value={role} onChange={(e) => setRole(e.target.value)}>
            <option value="">all that you may</option>
            {mine.map((r) => (
              <option key={r} value={r}>
                {r}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Labelled>
      <Box>
        Changes only what is chosen here, or everything if nothing is:
        <HStack wrap="wrap" gap="4" mt="2">
          {(allPools.data?.items ?? []).map((p) => (
            <Check
              key={p.name}
              checked={pools.includes(p.name)}
              set={choose(pools, setPools, p.name)}
              label={`pool ${p.name}`}
            />
          ))}
          {(allImages.data?.items ?? []).map((i) => (
            <Check
              key={i.name}
              checked={images.includes(i.name)}
              set={choose(images, setImages, i.name)}
              label={`image ${i.name}`}
            />
          ))}
        </HStack>
      </Box>
    </FormDialog>
  );
}
