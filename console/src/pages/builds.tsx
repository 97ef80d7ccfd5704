import { NativeSelect, Progress, Table } from "@chakra-ui/react";
import { useQueries, useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { useSearchParams } from "react-router";
import { api, type Build, call } from "../api";
import { time } from "../format";
import { BuildSizes } from "../parts/build-sizes";
import { Labelled } from "../parts/fields";
import { Pages, usePages } from "../parts/paged";
import { StartBuild } from "../parts/start-build";
import { useSigned } from "../session";
import { List, Page, Panel, State, To } from "../ui";

const BuildTimes = lazy(() => import("../parts/build-times"));

const over: Build["state"][] = ["ready", "failed", "cancelled"];

/** Builds: those that go on first, and how long the others took. */
export function BuildsPage() {
  const { may } = useSigned();
  const [address, setAddress] = useSearchParams();
  const image = address.get("image") ?? "";
  const images = useQuery({ queryKey: ["images"], queryFn: () => call(api.GET("/api/v1/images")) });
  const builds = usePages(["builds", image], (cursor) =>
    call(api.GET("/api/v1/builds", { params: { query: { limit: 50, cursor, image } } })),
  );
  const running = (builds.data?.pages ?? []).flatMap((p) => p.items).filter((b) => !over.includes(b.state));
  return (
    <Page
      title="Builds"
      lead="Versions are made by build sheets: a machine is made, changed step by step, sealed and captured."
      actions={may("operator") && <StartBuild />}
    >
      {running.length > 0 && <Running of={running} />}
      {image && <BuildSizes image={image} />}
      <Pages
        query={builds}
        empty={image ? `No version of ${image} was built yet.` : "Nothing was built yet."}
        more="Show older ones"
      >
        {(items) => (
          <>
            {(images.data?.items.length ?? 0) > 1 && (
              <Labelled label="Only of">
                <NativeSelect.Root maxW="14rem" mb="3">
                  <NativeSelect.Field
                    value={image}
                    onChange={(e) =>
                      setAddress(e.target.value ? { image: e.target.value } : {}, { replace: true })
                    }
                  >
                    <option value="">every image</option>
                    {images.data?.items.map((i) => (
                      <option key={i.name} value={i.name}>
                        {i.name}
                      </option>
                    ))}
                  </NativeSelect.Field>
                  <NativeSelect.Indicator />
                </NativeSelect.Root>
              </Labelled>
            )}
            <Suspense>
              <BuildTimes of={items} />
            </Suspense>
            <List
              label="Builds"
              head={["Build", "Image", "Version", "State", "Steps", "From", "Site", "Started", "Ended", "By"]}
            >
              {items
                .filter((b) => over.includes(b.state))
                .map((b) => (
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
          </>
        )}
      </Pages>
    </Page>
  );
}

/** The builds that go on, with how far each is. */
function Running({ of: builds }: { of: Build[] }) {
  const whole = useQueries({
    queries: builds.map((b) => ({
      queryKey: ["builds", b.id],
      queryFn: () => call(api.GET("/api/v1/builds/{id}", { params: { path: { id: b.id } } })),
    })),
  });
  return (
    <Panel title="Running">
      <List
        label="Running builds"
        head={["Build", "Image", "State", "Done", "Now", "Is ready", "Started", "By"]}
      >
        {builds.map((b, n) => {
          const w = whole[n]?.data;
          const now = w?.steps.find((s) => s.state === "under way")?.name;
          return (
            <Table.Row key={b.id}>
              <Table.Cell>
                <To to={`/builds/${b.id}`}>{String(b.id)}</To>
              </Table.Cell>
              <Table.Cell>
                <To to={`/images/${b.image}`}>{b.image}</To>
              </Table.Cell>
              <Table.Cell>
                <State of={b.state} />
              </Table.Cell>
              <Table.Cell minW="9rem">
                <Progress.Root
                  value={b.done}
                  max={Math.max(b.total, 1)}
                  size="sm"
                  colorPalette="deep"
                  aria-label={`Build ${b.id}`}
                >
                  <Progress.Label fontSize="sm" fontVariantNumeric="tabular-nums">
                    {b.done} of {b.total} steps
                  </Progress.Label>
                  <Progress.Track>
                    <Progress.Range />
                  </Progress.Track>
                </Progress.Root>
              </Table.Cell>
              <Table.Cell>{now}</Table.Cell>
              <Table.Cell whiteSpace="nowrap">
                {w?.expected?.ready_at ? `about ${time(w.expected.ready_at)}` : ""}
              </Table.Cell>
              <Table.Cell whiteSpace="nowrap">{time(b.started_at)}</Table.Cell>
              <Table.Cell>{b.started_by}</Table.Cell>
            </Table.Row>
          );
        })}
      </List>
    </Panel>
  );
}
