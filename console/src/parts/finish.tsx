import { Box, Input, NativeSelect, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type BuildMachine, call } from "../api";
import { FormDialog } from "../ui";
import { Fitness, given } from "./capture";
import { Check, Labelled, useWritten, WrittenFields } from "./fields";

/** Makes a version of a build machine in one act: checks, what it is called, the capture, and what becomes of the machine. */
export function Finish({ of: m }: { of: BuildMachine }) {
  const images = useQuery({ queryKey: ["images"], queryFn: () => call(api.GET("/api/v1/images")) });
  const fit = (images.data?.items ?? []).filter((i) => i.machine_class === m.machine_class);
  const [chosen, setChosen] = useState("");
  const [number, setNumber] = useState("");
  const { written, set, reset, body } = useWritten();
  const [waive, setWaive] = useState<Record<string, string>>({});
  const [prove, setProve] = useState(true);
  const [then, setThen] = useState("keep"); // keep, discard, or back: and the name of a checkpoint
  const go = useNavigate();
  const image =
    fit.find((i) => i.name === chosen) ?? fit.find((i) => m.base.startsWith(`${i.name} `)) ?? fit[0];
  return (
    <FormDialog
      label="Seal and capture"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      title={`Make a version of ${m.name}`}
      wide
      onOpen={() => {
        reset({ notes: (m.notes ?? []).map((n) => n.text).join("\n"), tags: [] });
        setWaive({});
        setNumber("");
        setThen("keep");
      }}
      submit={async () => {
        const v = await call(
          api.POST("/api/v1/images/{image}/versions", {
            params: { path: { image: image?.name ?? "" } },
            body: {
              build_machine: m.name,
              site: m.site,
              number: number.trim() || undefined,
              ...body,
              prove,
              discard: then === "discard" || undefined,
              back_to: then.startsWith("back:") ? then.slice(5) : undefined,
              waive: given(waive),
            },
          }),
        );
        void go(`/images/${v.image}/versions/${v.number}`);
      }}
    >
      <Fitness site={m.site} machine={m.name} waive={waive} set={setWaive} />
      <Box display="grid" gridTemplateColumns="1fr 1fr" gap="3">
        <Labelled label="Image">
          <NativeSelect.Root>
            <NativeSelect.Field value={image?.name ?? ""} onChange={(e) => setChosen(e.target.value)}>
              {fit.map((i) => (
                <option key={i.name}>{i.name}</option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Labelled>
        <Labelled label="Number">
          <Input
            value={number}
            placeholder={image?.next_number}
            onChange={(e) => setNumber(e.target.value)}
          />
        </Labelled>
      </Box>
      <WrittenFields written={written} set={set} />
      <Check checked={prove} set={setProve} label="Prove its first start, on a machine that is thrown away" />
      <Labelled label="What becomes of the machine afterwards">
        <NativeSelect.Root>
          <NativeSelect.Field value={then} onChange={(e) => setThen(e.target.value)}>
            <option value="keep">it is kept as it is</option>
            <option value="discard">it is discarded</option>
            {(m.checkpoints ?? []).map((c) => (
              <option key={c.name} value={`back:${c.name}`}>
                it goes back to {c.name}, without what was done since
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Labelled>
      <Text color="fg.quiet" fontSize="sm">
        The machine is shut down, a clone of it is sealed and captured, and copies are delivered. Nothing
        points to the new version until you stage it.
      </Text>
    </FormDialog>
  );
}
