import { Code, Field, HStack, Input, NativeSelect, Table, Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useDebounce } from "use-debounce";
import { api, call, type Schedule, type ScheduleMode, type ScheduleRun } from "../api";
import { time } from "../format";
import { useSigned } from "../session";
import { Act, Empty, FormDialog, List, Panel, State, To } from "../ui";

/** When builds start, in words. */
export const modes: Record<ScheduleMode, string> = {
  dates: "on every date",
  "dates-if-changed": "on dates, if something has changed",
  changes: "when something has changed",
};

/** The schedules that there are, or those of one sheet, with what their last runs came to. */
export function Schedules({ sheet }: { sheet?: string }) {
  const { may } = useSigned();
  const all = useQuery({ queryKey: ["schedules"], queryFn: () => call(api.GET("/api/v1/schedules")) });
  const items = (all.data?.items ?? []).filter((s) => !sheet || s.sheet === sheet);
  return (
    <Panel title="Builds that start by themselves" aside={may("operator") && <AddSchedule sheet={sheet} />}>
      {items.length === 0 ? (
        <Empty>
          {sheet
            ? "No build of it starts by itself."
            : "No build starts by itself: a kept sheet can be scheduled."}
        </Empty>
      ) : (
        <List label="Schedules" head={["Schedule", "Sheet", "Builds start", "Next", "Last", "By", "Acts"]}>
          {items.map((s) => (
            <Table.Row key={s.name}>
              <Table.Cell fontWeight="500">{s.name}</Table.Cell>
              <Table.Cell>
                <To to={`/sheets/${s.sheet}`}>{s.sheet}</To>
              </Table.Cell>
              <Table.Cell>
                {modes[s.mode]}
                {s.rule && (
                  <Text color="fg.quiet" fontSize="sm">
                    {s.rule} {s.zone}
                  </Text>
                )}
              </Table.Cell>
              <Table.Cell>
                <Next of={s} />
              </Table.Cell>
              <Table.Cell>{s.last && <CameTo of={s.last} />}</Table.Cell>
              <Table.Cell>{s.owner}</Table.Cell>
              <Table.Cell textAlign="end">{may("operator") && <Acts of={s} />}</Table.Cell>
            </Table.Row>
          ))}
        </List>
      )}
    </Panel>
  );
}

function Next({ of: s }: { of: Schedule }) {
  if (s.paused) return <>{`paused by ${s.paused_by}: ${s.paused}`}</>;
  if (s.waits) return <>{`waits: ${s.waits}`}</>;
  if (s.next_at) return <>{time(s.next_at)}</>;
  return <>{s.mode === "changes" ? "when something has changed" : "never"}</>;
}

function CameTo({ of: r }: { of: ScheduleRun }) {
  if (!r.build) return <>{`none: ${r.why}`}</>;
  return (
    <>
      <To to={`/builds/${r.build}`}>{`build ${r.build}`}</To> {r.state && <State of={r.state} />} {r.version}
    </>
  );
}

function Acts({ of: s }: { of: Schedule }) {
  const queries = useQueryClient();
  const at = { params: { path: { schedule: s.name } } };
  const then = async (act: Promise<unknown>) => {
    await act;
    await queries.invalidateQueries({ queryKey: ["schedules"] });
    await queries.invalidateQueries({ queryKey: ["calendar"] });
  };
  return (
    <HStack justify="end" wrap="wrap">
      {s.paused ? (
        <Act
          label="Resume"
          title={`Resume ${s.name}`}
          done={`${s.name} starts builds again.`}
          run={() => then(call(api.POST("/api/v1/schedules/{schedule}/resume", { ...at, body: {} })))}
        >
          It starts builds from its next date on. Those that came while it was paused are left out.
        </Act>
      ) : (
        <Act
          label="Pause"
          title={`Pause ${s.name}`}
          reason="needed"
          done={`${s.name} is paused.`}
          run={(reason) =>
            then(call(api.POST("/api/v1/schedules/{schedule}/pause", { ...at, body: { reason } })))
          }
        >
          It starts no builds until it is resumed.
        </Act>
      )}
      <Act
        label="Delete"
        title={`Delete schedule ${s.name}`}
        danger
        done={`${s.name} is deleted.`}
        run={() => then(call(api.DELETE("/api/v1/schedules/{schedule}", at)))}
      >
        Builds that it started stay.
      </Act>
    </HStack>
  );
}

function AddSchedule({ sheet: of }: { sheet?: string }) {
  const [name, setName] = useState("");
  const [sheet, setSheet] = useState(of ?? "");
  const [mode, setMode] = useState<ScheduleMode>("dates-if-changed");
  const [rule, setRule] = useState("FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30");
  const [zone, setZone] = useState(Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC");
  const sheets = useQuery({
    queryKey: ["sheets"],
    queryFn: () => call(api.GET("/api/v1/sheets")),
    enabled: !of,
  });
  const [asked] = useDebounce(`${rule} ${zone}`, 300);
  const body = () => ({
    name: name.trim(),
    sheet,
    mode,
    ...(mode !== "changes" && { rule: rule.trim(), zone: zone.trim() }),
  });
  const dates = useQuery({
    queryKey: ["schedule-dates", asked, mode],
    queryFn: () => call(api.POST("/api/v1/schedules/dates", { body: { ...body(), name: "x", sheet: "x" } })),
    enabled: mode !== "changes",
    retry: false,
  });
  const queries = useQueryClient();
  return (
    <FormDialog
      label="Start builds by themselves"
      title={of ? `Start builds of ${of} by themselves` : "Start builds by themselves"}
      done={`${name.trim()} is written down.`}
      submit={async () => {
        await call(api.POST("/api/v1/schedules", { body: body() }));
        await queries.invalidateQueries({ queryKey: ["schedules"] });
        await queries.invalidateQueries({ queryKey: ["calendar"] });
      }}
    >
      <Field.Root required>
        <Field.Label>Name</Field.Label>
        <Input value={name} onChange={(e) => setName(e.target.value)} placeholder="monthly" />
      </Field.Root>
      {!of && (
        <Field.Root required>
          <Field.Label>Sheet</Field.Label>
          <NativeSelect.Root>
            <NativeSelect.Field value={sheet} onChange={(e) => setSheet(e.target.value)}>
              <option value="">choose one</option>
              {sheets.data?.items.map((s) => (
                <option key={s.name} value={s.name}>
                  {s.name}
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Field.Root>
      )}
      <Field.Root>
        <Field.Label>Builds start</Field.Label>
        <NativeSelect.Root>
          <NativeSelect.Field value={mode} onChange={(e) => setMode(e.target.value as ScheduleMode)}>
            {(Object.keys(modes) as ScheduleMode[]).map((m) => (
              <option key={m} value={m}>
                {modes[m]}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Field.Root>
      {mode !== "changes" && (
        <>
          <Field.Root required>
            <Field.Label>Dates</Field.Label>
            <Input value={rule} fontFamily="mono" fontSize="sm" onChange={(e) => setRule(e.target.value)} />
            <Field.HelperText>
              A recurrence rule (RFC 5545): <Code>FREQ=WEEKLY;BYDAY=SU;BYHOUR=4</Code>
            </Field.HelperText>
          </Field.Root>
          <Field.Root required>
            <Field.Label>Time zone</Field.Label>
            <Input value={zone} onChange={(e) => setZone(e.target.value)} />
          </Field.Root>
          <Text fontSize="sm" color={dates.error ? "red.fg" : "fg.quiet"} aria-live="polite">
            {dates.error
              ? dates.error.message
              : `Next, in UTC: ${dates.data?.dates.map((d) => time(d)).join(", ") || "…"}`}
          </Text>
        </>
      )}
    </FormDialog>
  );
}
