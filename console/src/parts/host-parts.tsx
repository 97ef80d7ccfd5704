import { Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, type Host } from "../api";
import { time } from "../format";
import { Act, Empty, Facts, Shown } from "../ui";
import { SessionList } from "./session-list";

/** The people on a host. */
export function HostSessions({ host }: { host: string }) {
  const sessions = useQuery({
    queryKey: ["sessions", "host", host],
    queryFn: () => call(api.GET("/api/v1/sessions", { params: { query: { host } } })),
  });
  return (
    <Shown query={sessions}>
      {({ items }) => (items.length ? <SessionList sessions={items} /> : <Empty>Nobody is signed in.</Empty>)}
    </Shown>
  );
}

/** What is known of a host. */
export function HostFacts({ host: h }: { host: Host }) {
  return (
    <Facts
      of={[
        ["Since", time(h.since)],
        ["Why", h.why],
        ["Drained by", h.drained_by],
        ["Runs", h.version],
        ["Its agent reports", h.stamp],
        ["Should run", h.target],
        ["Drift", h.drift_reason],
        ["Should run it since", time(h.target_since)],
        ["Checks", `${h.checks ?? ""} ${h.checks_why}`.trim()],
        ["Last heard", h.seen_at ? time(h.seen_at) : "never"],
        ["Load", h.load.toFixed(2)],
      ]}
    />
  );
}

/** What can be done with a host now. */
export function HostActs({ host: h }: { host: Host }) {
  const at = { params: { path: { host: h.name } } };
  const faulty = h.state === "faulty";
  return (
    <>
      {h.state === "serving" && (
        <Act
          label="Drain"
          title={`Drain ${h.name}`}
          reason="wanted"
          done={`${h.name} drains.`}
          run={(reason) => call(api.POST("/api/v1/hosts/{host}/drain", { ...at, body: { reason } }))}
        >
          It takes no new sessions; those there go on.
        </Act>
      )}
      {["draining", "emptied", "faulty"].includes(h.state) && (
        <Act
          label="Return"
          title={`Return ${h.name} to service`}
          reason={faulty ? "needed" : "wanted"}
          done={`${h.name} serves.`}
          run={(reason) => call(api.POST("/api/v1/hosts/{host}/return", { ...at, body: { reason } }))}
        />
      )}
      <Rebuild host={h} />
    </>
  );
}

function Rebuild({ host: h }: { host: Host }) {
  const [vouch, setVouch] = useState(false);
  const faulty = h.state === "faulty";
  return (
    <Act
      label="Rebuild"
      title={`Rebuild ${h.name}`}
      reason={vouch ? "needed" : "wanted"}
      danger
      done={`A rollover rebuilds ${h.name}.`}
      run={(reason) =>
        call(
          api.POST("/api/v1/hosts/{host}/rebuild", {
            params: { path: { host: h.name } },
            body: { reason, vouch_empty: vouch },
          }),
        )
      }
    >
      <Text>
        It drains, its people leave, its disk is thrown away and made anew of{" "}
        {h.target || "the version it should run"}, it is checked and put back.
      </Text>
      {faulty && (
        <label>
          <input type="checkbox" checked={vouch} onChange={(e) => setVouch(e.target.checked)} /> I have made
          sure that nobody is on it
        </label>
      )}
    </Act>
  );
}
