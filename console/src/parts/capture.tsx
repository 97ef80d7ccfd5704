import { Box, Field, HStack, Input, NativeSelect, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, type Image } from "../api";
import { FormDialog } from "../ui";
import { Check, useWritten, WrittenFields } from "./fields";
import { CheckNow, Findings, Repair, useMachineCheck } from "./seal-checks";

/** Makes a version of a build machine. */
export function Capture({ image }: { image: Image }) {
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => call(api.GET("/api/v1/sites")) });
  const machines = (sites.data?.items ?? []).flatMap((s) =>
    s.build_machines
      .filter((m) => m.machine_class === image.machine_class)
      .map((m) => ({ ...m, site: s.name })),
  );
  const [chosen, setChosen] = useState("");
  const { written, set, reset, body } = useWritten();
  const [discard, setDiscard] = useState(false);
  const [waive, setWaive] = useState<Record<string, string>>({});
  const from = machines.find((m) => `${m.site}/${m.name}` === chosen) ?? machines[0];
  return (
    <FormDialog
      label="Capture a version"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      title={`Capture ${image.name} ${image.next_number}`}
      wide
      done="The capture has begun."
      onOpen={() => {
        reset();
        setWaive({});
      }}
      submit={() =>
        call(
          api.POST("/api/v1/images/{image}/versions", {
            params: { path: { image: image.name } },
            body: {
              build_machine: from?.name ?? "",
              site: from?.site,
              ...body,
              discard: discard || undefined,
              waive: from?.own ? undefined : given(waive),
            },
          }),
        )
      }
    >
      <Text color="fg.quiet">
        The build machine is shut down, sealed and captured. A machine that is kept can be worked on and
        captured again. Nothing points to the new version until you stage it.
      </Text>
      <Field.Root required>
        <Field.Label>Build machine</Field.Label>
        <NativeSelect.Root>
          <NativeSelect.Field
            value={from ? `${from.site}/${from.name}` : ""}
            onChange={(e) => setChosen(e.target.value)}
          >
            {machines.map((m) => (
              <option key={`${m.site}/${m.name}`} value={`${m.site}/${m.name}`}>
                {m.name} at {m.site}, {m.state}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        {from?.changes && <Field.HelperText>Done on it: {from.changes}</Field.HelperText>}
      </Field.Root>
      {from && !from.own && <Fitness site={from.site} machine={from.name} waive={waive} set={setWaive} />}
      <WrittenFields written={written} set={set} />
      <Check checked={discard} set={setDiscard} label="Delete the build machine afterwards" />
    </FormDialog>
  );
}

/** The reasons that were written down. */
export function given(waive: Record<string, string>) {
  const reasons = Object.entries(waive).filter(([, why]) => why.trim() !== "");
  return reasons.length > 0 ? Object.fromEntries(reasons.map(([k, why]) => [k, why.trim()])) : undefined;
}

/** What the seal checks found on the machine, what can be repaired, and reasons to pass over what blocks. */
export function Fitness(props: {
  site: string;
  machine: string;
  waive: Record<string, string>;
  set: (waive: Record<string, string>) => void;
}) {
  const check = useMachineCheck(props.site, props.machine);
  return (
    <Box>
      <Text fontWeight="500">Seal checks</Text>
      <CheckNow site={props.site} machine={props.machine} />
      {!!check.data?.findings.length && (
        <Findings
          of={check.data.findings}
          made
          last={{
            head: "Pass over, because",
            cell: (f) => (
              <HStack>
                <Repair of={f} site={props.site} machine={props.machine} />
                <Input
                  size="xs"
                  minW="12rem"
                  aria-label={`Why ${f.check} is passed over`}
                  value={props.waive[f.check] ?? ""}
                  maxLength={200}
                  onChange={(e) => props.set({ ...props.waive, [f.check]: e.target.value })}
                />
              </HStack>
            ),
          }}
        />
      )}
    </Box>
  );
}
