import { Field, Input } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, type WholeBuild } from "../api";
import { Act, FormDialog } from "../ui";
import { Labelled, Lines } from "./fields";

/** What can be done with a build that failed and whose machine is held. */
export function HeldBuild({ build: b }: { build: WholeBuild }) {
  return (
    <>
      <GoOn build={b} />
      <HoldBuild build={b} label="Hold it longer" />
      <Act
        label="Discard its machine"
        title={`Discard the machine of build ${b.id}`}
        danger
        run={() => call(api.POST("/api/v1/builds/{id}/discard", { params: { path: { id: b.id } } }))}
      >
        What was done on it is lost.
      </Act>
    </>
  );
}

/** Has the machine of a build be held: from now if it has failed, else from when it fails. */
export function HoldBuild({ build: b, label }: { build: WholeBuild; label: string }) {
  const [hours, setHours] = useState("2");
  const queries = useQueryClient();
  return (
    <FormDialog
      label={label}
      title={`${label}: build ${b.id}`}
      button={{ size: "sm", variant: "outline" }}
      submit={async () => {
        await call(
          api.POST("/api/v1/builds/{id}/hold", {
            params: { path: { id: b.id } },
            body: { seconds: Math.round(Number(hours) * 3600) },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["builds", b.id] });
      }}
    >
      <Hours label="Hours" value={hours} set={setHours} />
    </FormDialog>
  );
}

/** How many hours a machine is held. */
export function Hours(props: { label: string; value: string; set: (hours: string) => void }) {
  return (
    <Field.Root>
      <Field.Label>{props.label}</Field.Label>
      <Input
        type="number"
        min={0}
        max={168}
        step="any"
        value={props.value}
        onChange={(e) => props.set(e.target.value)}
      />
    </Field.Root>
  );
}

function GoOn({ build: b }: { build: WholeBuild }) {
  const [sheet, setSheet] = useState(b.sheet);
  const queries = useQueryClient();
  return (
    <FormDialog
      label="Go on"
      title={`Go on with build ${b.id}`}
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      onOpen={() => setSheet(b.sheet)}
      submit={async () => {
        await call(
          api.POST("/api/v1/builds/{id}/go-on", {
            params: { path: { id: b.id } },
            body: sheet === b.sheet ? {} : { sheet },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["builds", b.id] });
      }}
    >
      <Labelled
        label="Build sheet"
        help="It goes on from the step that failed, or from the seal checks. A change of a step that is done has its machine go back to the last checkpoint before it."
      >
        <Lines value={sheet} set={setSheet} rows={16} />
      </Labelled>
    </FormDialog>
  );
}
