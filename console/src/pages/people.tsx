import { api, call } from "../api";
import type { HostState, SessionState } from "../panes";
import { Choose, ChoosePool, Find, Narrowing, Pages, useNarrowing, usePages } from "../parts/paged";
import { SessionList } from "../parts/session-list";
import { Page } from "../ui";

const states: SessionState[] = ["active", "idle", "disconnected"];

/** Everybody who is signed in, a page at a time. */
export function PeoplePage() {
  const [by, set] = useNarrowing(["find", "pool", "state", "host"]);
  const sessions = usePages(
    ["session-pages", by],
    (cursor) =>
      call(
        api.GET("/api/v1/sessions", {
          params: {
            query: {
              find: by.find || undefined,
              pool: by.pool || undefined,
              state: (by.state || undefined) as SessionState | undefined,
              host_state: (by.host || undefined) as HostState | undefined,
              limit: 100,
              cursor,
            },
          },
        }),
      ),
    10_000, // people come and go all the time
  );
  return (
    <Page title="People" lead="Who is signed in, and where.">
      <Narrowing>
        <Find
          label="Part of a person's or host's name"
          value={by.find}
          onFind={(text) => set("find", text)}
        />
        <ChoosePool value={by.pool} onChoose={(v) => set("pool", v)} />
        <Choose
          label="State"
          all="All states"
          value={by.state}
          of={states}
          onChoose={(v) => set("state", v)}
        />
        <Choose
          label="On hosts that are"
          all="On all hosts"
          value={by.host}
          of={["serving", "draining", "emptied", "faulty"]}
          onChoose={(v) => set("host", v)}
        />
      </Narrowing>
      <Pages query={sessions} empty="Nobody like that is signed in." more="Show more people">
        {(items) => <SessionList sessions={items} />}
      </Pages>
    </Page>
  );
}
