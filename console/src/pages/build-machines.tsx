import { Field, HStack, Input, NativeSelect, Table, Text } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type BuildMachine, call } from "../api";
import { count, lasted, size, time } from "../format";
import { MakeBuildMachine } from "../parts/make-build-machine";
import { Pages, usePages } from "../parts/paged";
import { useSigned } from "../session";
import { Act, FormDialog, List, Page, State, To } from "../ui";

export function BuildMachinesPage() {
  const { may } = useSigned();
  const machines = usePages<BuildMachine>(
    ["build-machines"],
    (cursor) => call(api.GET("/api/v1/build-machines", { params: { query: { limit: 50, cursor } } })),
    30_000, // what they cost grows without an event
  );
  return (
    <Page
      title="Build machines"
      lead="Machines that versions are made on. They cost money while they run."
      actions={may("operator") && <MakeBuildMachine />}
    >
      <Pages query={machines} empty="No build machine is there." more="Show older ones">
        {(items) => (
          <List
            label="Build machines"
            head={[
              "Machine",
              "Site",
              "State",
              "For",
              "Made from",
              "Class",
              "By",
              "Since",
              "Ran",
              "Cost",
              "Acts",
            ]}
          >
            {items.map((m) => (
              <Table.Row key={m.id}>
                <Table.Cell fontWeight="500">
                  {m.build ? <To to={`/builds/${m.build}`}>{m.name}</To> : m.name}
                </Table.Cell>
                <Table.Cell>
                  <To to={`/sites/${m.site}`}>{m.site}</To>
                </Table.Cell>
                <Table.Cell>
                  <State of={m.state} />
                </Table.Cell>
                <Table.Cell>
                  {m.purpose}
                  {m.why && (
                    <Text color="fg.quiet" fontSize="sm">
                      {m.why}
                    </Text>
                  )}
                  {!!m.notices && (
                    <Text color="fg.quiet" fontSize="sm">
                      It is discarded on {time(m.discard_at)} UTC, unless somebody needs it.
                    </Text>
                  )}
                </Table.Cell>
                <Table.Cell>{m.base}</Table.Cell>
                <Table.Cell>
                  {m.machine_class}
                  <Text color="fg.quiet" fontSize="sm">
                    {[
                      m.cores && count(m.cores, "core"),
                      m.memory_bytes && `${size(m.memory_bytes)} of memory`,
                      m.disk_bytes && `${size(m.disk_bytes)} of disk`,
                    ]
                      .filter(Boolean)
                      .join(", ")}
                  </Text>
                </Table.Cell>
                <Table.Cell>{m.owner}</Table.Cell>
                <Table.Cell whiteSpace="nowrap">{time(m.asked_at)}</Table.Cell>
                <Table.Cell whiteSpace="nowrap">{lasted(m.ran_seconds)}</Table.Cell>
                <Table.Cell whiteSpace="nowrap">{m.cost && `${m.cost} ${m.currency}`}</Table.Cell>
                <Table.Cell textAlign="end">{may("operator") && !m.build && <Acts of={m} />}</Table.Cell>
              </Table.Row>
            ))}
          </List>
        )}
      </Pages>
    </Page>
  );
}

function Acts({ of: m }: { of: BuildMachine }) {
  const queries = useQueryClient();
  const at = { params: { path: { site: m.site, machine: m.name } } };
  const then = async (act: Promise<unknown>) => {
    await act;
    await queries.invalidateQueries({ queryKey: ["build-machines"] });
  };
  if (!["running", "off", "sealed"].includes(m.state)) return null;
  return (
    <HStack justify="end">
      {!!m.notices && (
        <Act
          label="Keep"
          title={`Keep ${m.name}`}
          done={`${m.name} is kept.`}
          run={() => then(call(api.POST("/api/v1/sites/{site}/build-machines/{machine}/keep", at)))}
        >
          It is not discarded until nobody has touched it for as long again.
        </Act>
      )}
      {m.state === "off" && (
        <Act
          label="Start"
          title={`Start ${m.name}`}
          done={`${m.name} is starting.`}
          run={() => then(call(api.POST("/api/v1/sites/{site}/build-machines/{machine}/start", at)))}
        >
          It runs, and costs, until it is stopped or captured.
        </Act>
      )}
      {m.state === "running" && (
        <Act
          label="Stop"
          title={`Stop ${m.name}`}
          done={`${m.name} is shutting down.`}
          run={() => then(call(api.POST("/api/v1/sites/{site}/build-machines/{machine}/stop", at)))}
        >
          It is asked to shut down, which takes a moment.
        </Act>
      )}
      {m.state !== "sealed" && <Checkpoint of={m} then={then} />}
      {!!m.checkpoints?.length && <Back of={m} to={m.checkpoints} then={then} />}
      <Act
        label="Discard"
        title={`Discard ${m.name}`}
        danger
        done={`${m.name} is being discarded.`}
        run={() => then(call(api.DELETE("/api/v1/sites/{site}/build-machines/{machine}", at)))}
      >
        All that was done on it and not captured is lost.
      </Act>
    </HStack>
  );
}

interface CheckpointProps {
  of: BuildMachine;
  then: (act: Promise<unknown>) => Promise<void>;
}

function Checkpoint({ of: m, then }: CheckpointProps) {
  const [name, setName] = useState("");
  return (
    <FormDialog
      label="Checkpoint"
      title={`Make a checkpoint of ${m.name}`}
      onOpen={() => setName("")}
      submit={() =>
        then(
          call(
            api.POST("/api/v1/sites/{site}/build-machines/{machine}/checkpoint", {
              params: { path: { site: m.site, machine: m.name } },
              body: { checkpoint: name.trim() },
            }),
          ),
        )
      }
    >
      <Field.Root required>
        <Field.Label>What it is called</Field.Label>
        <Input value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
        <Field.HelperText>
          {m.state === "running" ? "The machine goes down for it, and comes up again." : "The machine stays off."}
        </Field.HelperText>
      </Field.Root>
    </FormDialog>
  );
}

function Back({
  of: m,
  to: checkpoints,
  then,
}: CheckpointProps & { to: NonNullable<BuildMachine["checkpoints"]> }) {
  const last = checkpoints[checkpoints.length - 1]?.name ?? "";
  const [name, setName] = useState(last);
  return (
    <FormDialog
      label="Go back"
      title={`Have ${m.name} go back to a checkpoint`}
      danger
      onOpen={() => setName(last)}
      submit={() =>
        then(
          call(
            api.POST("/api/v1/sites/{site}/build-machines/{machine}/back", {
              params: { path: { site: m.site, machine: m.name } },
              body: { checkpoint: name },
            }),
          ),
        )
      }
    >
      <Field.Root>
        <Field.Label>Checkpoint</Field.Label>
        <NativeSelect.Root>
          <NativeSelect.Field value={name} onChange={(e) => setName(e.target.value)}>
            {checkpoints.map((c) => (
              <option key={c.name} value={c.name}>
                {c.name}, {time(c.made_at)}
              </option>
            ))}
          </NativeSelect.Field>
        </NativeSelect.Root>
        <Field.HelperText>What was done on it since is lost. Then it is started.</Field.HelperText>
      </Field.Root>
    </FormDialog>
  );
}
