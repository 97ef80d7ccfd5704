import { Field, HStack, Input, NativeSelect } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type BuildMachine, call } from "../api";
import { time } from "../format";
import { Act, FormDialog } from "../ui";
import { Finish } from "./finish";

/** What can be done with a build machine that belongs to no build. */
export function MachineActs({ of: m, finish }: { of: BuildMachine; finish?: boolean }) {
  const queries = useQueryClient();
  const at = { params: { path: { site: m.site, machine: m.name } } };
  const then = async (act: Promise<unknown>) => {
    await act;
    await queries.invalidateQueries({ queryKey: ["build-machines"] });
  };
  if (!["waiting", "running", "off", "sealed"].includes(m.state)) return null;
  const works = m.state === "running" || m.state === "off";
  return (
    <HStack justify="end" wrap="wrap">
      {finish && works && <Finish of={m} />}
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
      {works && <Checkpoint of={m} then={then} />}
      {!!m.checkpoints?.length && <Back of={m} to={m.checkpoints} then={then} />}
      <Act
        label="Discard"
        title={`Discard ${m.name}`}
        danger
        done={`${m.name} is being discarded.`}
        run={() => then(call(api.DELETE("/api/v1/sites/{site}/build-machines/{machine}", at)))}
      >
        {m.state === "waiting"
          ? `Host ${m.from_host} is put back to service if it was drained for this.`
          : "All that was done on it and not captured is lost."}
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
          {m.state === "running"
            ? "The machine goes down for it, and comes up again."
            : "The machine stays off."}
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
