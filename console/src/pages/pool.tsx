import { Box, Button, CloseButton, Dialog, Flex, HStack, NativeSelect, Portal } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { api, call, type Host, type Pool } from "../api";
import { count, counts, shortNumber } from "../format";
import { lookOfHost } from "../panes";
import { Batches } from "../parts/batches";
import { HostActs, HostFacts, HostSessions } from "../parts/host-parts";
import { type PaneOf, PaneWindow } from "../parts/pane-window";
import { hostsOfPool, hostsOfRollover } from "../parts/queries";
import { SomeSessions } from "../parts/session-list";
import { WhereSeen } from "../parts/where-seen";
import { Preview } from "../preview";
import { useSigned } from "../session";
import { Act, Facts, Page, Panel, Shown, State, To } from "../ui";

export function PoolPage() {
  const name = useParams().pool ?? "";
  const { may } = useSigned();
  const [search, setSearch] = useSearchParams();
  const pool = useQuery({
    queryKey: ["pools", name],
    queryFn: () => call(api.GET("/api/v1/pools/{pool}", { params: { path: { pool: name } } })),
  });
  const hosts = useQuery(hostsOfPool(name));
  const open = (host: string) => setSearch({ host });
  const chosen = hosts.data?.items.find((h) => h.name === search.get("host"));
  return (
    <Page
      title={name}
      lead={pool.data?.title}
      actions={
        pool.data &&
        may("operator") && (
          <>
            {pool.data.rollover > 0 ? (
              <Button asChild size="sm" colorPalette="deep">
                <Link to={`/rollovers/${pool.data.rollover}`}>Rollover {pool.data.rollover}</Link>
              </Button>
            ) : (
              <Button
                asChild
                size="sm"
                colorPalette="deep"
                variant={pool.data.drifting ? "solid" : "outline"}
              >
                <Link to={`/rollovers/new?pool=${name}`}>Start a rollover</Link>
              </Button>
            )}
            <Act
              label="Tell everybody"
              title={`Tell everybody in ${name}`}
              reason="needed"
              reasonLabel="Text"
              button={{ size: "sm" }}
              done="They are told."
              run={(text) =>
                call(
                  api.POST("/api/v1/pools/{pool}/tell", { params: { path: { pool: name } }, body: { text } }),
                )
              }
            />
            {pool.data.pinned ? (
              <Act
                label="Unpin"
                title={`Unpin ${name}`}
                reason="wanted"
                button={{ size: "sm" }}
                done={`${name} follows ${pool.data.track}.`}
                run={(reason) =>
                  call(
                    api.POST("/api/v1/pools/{pool}/unpin", {
                      params: { path: { pool: name } },
                      body: { reason },
                    }),
                  )
                }
              >
                The pool will follow {pool.data.track} of {pool.data.image} again.
              </Act>
            ) : (
              <PinPool pool={pool.data} />
            )}
          </>
        )
      }
    >
      <Shown query={pool}>
        {(p) => (
          <Panel>
            <Flex gap="10" wrap="wrap">
              <Facts
                of={[
                  [
                    "Follows",
                    p.pinned ? `pinned to ${p.pinned}: ${p.pinned_why}` : `${p.track} of ${p.image}`,
                  ],
                  ["Should run", p.target || "nothing yet"],
                  ["Runs", counts(p.versions)],
                ]}
              />
              <Facts
                of={[
                  ["Site", p.site],
                  ["Machines", p.machine_class],
                  ["Hosts", `${p.hosts}: ${counts(p.states)}`],
                ]}
              />
              <Facts
                of={[
                  ["Seats in service", `${p.in_service}, ${p.seats_per_host} a host`],
                  ["Free seats", p.free],
                  ["People", p.sessions],
                ]}
              />
            </Flex>
          </Panel>
        )}
      </Shown>
      {pool.data && pool.data.rollover > 0 && <BeingRolled id={pool.data.rollover} onOpen={open} />}
      <Panel
        title="Hosts"
        aside="A pane is a host: its state, its version, its people. Choose one to see more."
      >
        <Shown query={hosts}>
          {({ items }) => <PaneWindow label={`Hosts of ${name}`} panes={panesOf(items)} onOpen={open} />}
        </Shown>
      </Panel>
      <WhereSeen>
        <SomeSessions title="People" pool={name} none="Nobody is signed in." />
      </WhereSeen>
      {chosen && <HostDialog host={chosen} onClose={() => setSearch({})} />}
    </Page>
  );
}

const made = new WeakMap<Host, PaneOf>();

/** Makes panes of hosts, and the same one again of a host that is as it was. */
function panesOf(hosts: Host[]): PaneOf[] {
  return hosts.map((h) => {
    const pane = made.get(h) ?? paneOf(h);
    made.set(h, pane);
    return pane;
  });
}

function paneOf(h: Host): PaneOf {
  const look = lookOfHost(h.state, h.drifts);
  return {
    name: h.name,
    look,
    line: `${shortNumber(h.version) || "no disk"} · ${h.sessions}/${h.seats}`,
    hint: `${h.name}, ${look.word}, version ${h.version || "none"}, ${h.sessions} of ${count(h.seats, "seat")} taken`,
  };
}

/** The hosts that a rollover under way has, by batch. */
function BeingRolled({ id, onOpen }: { id: number; onOpen: (host: string) => void }) {
  const hosts = useQuery(hostsOfRollover(id));
  return (
    <Panel title={`Rollover ${id}`} aside={<To to={`/rollovers/${id}`}>Look at the rollover</To>}>
      <Shown query={hosts}>{({ items }) => <Batches hosts={items} onOpen={onOpen} />}</Shown>
    </Panel>
  );
}

function PinPool({ pool }: { pool: Pool }) {
  const versions = useQuery({
    queryKey: ["versions", pool.image],
    queryFn: () =>
      call(api.GET("/api/v1/images/{image}/versions", { params: { path: { image: pool.image } } })),
  });
  const usable = (versions.data?.items ?? []).filter((v) => v.state === "sealed" && !v.barred);
  const [chosen, setChosen] = useState("");
  const version = chosen || (usable[0]?.number ?? "");
  return (
    <Act
      label="Pin"
      title={`Pin ${pool.name} to a version`}
      reason="needed"
      button={{ size: "sm" }}
      done={`${pool.name} is pinned.`}
      run={(reason) =>
        call(
          api.POST("/api/v1/pools/{pool}/pin", {
            params: { path: { pool: pool.name } },
            body: { version, reason },
          }),
        )
      }
    >
      <NativeSelect.Root>
        <NativeSelect.Field aria-label="Version" value={version} onChange={(e) => setChosen(e.target.value)}>
          {usable.map((v) => (
            <option key={v.number} value={v.number}>
              {v.number} ({v.standing.join(", ")})
            </option>
          ))}
        </NativeSelect.Field>
        <NativeSelect.Indicator />
      </NativeSelect.Root>
      {version && <Preview of={{ act: "pin", pools: [pool.name], number: version }} />}
    </Act>
  );
}

function HostDialog({ host: h, onClose }: { host: Host; onClose: () => void }) {
  const { may } = useSigned();
  return (
    <Dialog.Root open size="xl" onOpenChange={(e) => !e.open && onClose()}>
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content>
            <Dialog.Header>
              <HStack>
                <Dialog.Title>{h.name}</Dialog.Title>
                <State of={h.state} />
              </HStack>
            </Dialog.Header>
            <Dialog.Body>
              <HostFacts host={h} />
              <Box mt="4">
                <HostSessions host={h.name} />
              </Box>
              <Box mt="4">
                <To to={`/hosts/${h.name}`}>Page of this host</To>
              </Box>
            </Dialog.Body>
            {may("operator") && (
              <Dialog.Footer>
                <HostActs host={h} />
              </Dialog.Footer>
            )}
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
