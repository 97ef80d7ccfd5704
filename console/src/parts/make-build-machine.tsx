import { Field, HStack, Input, NativeSelect, Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, call } from "../api";
import { FormDialog } from "../ui";

const GiB = 2 ** 30;

// No versions: those have a number behind a blank.
const HOST = "host";
const BASE = "base ";

/** Makes a build machine at a site, or at one that is chosen; or from a host. */
export function MakeBuildMachine({ site: here, host: of }: { site?: string; host?: string }) {
  const [chosen, setSite] = useState("");
  const [name, setName] = useState("");
  const [purpose, setPurpose] = useState("");
  const [from, setFrom] = useState(of ? HOST : ""); // "image number", HOST, or "" for a base disk
  const [host, setHost] = useState(of ?? "");
  const [disk, setDisk] = useState("");
  const [machineClass, setMachineClass] = useState("");
  const [cores, setCores] = useState("");
  const [memory, setMemory] = useState("");
  const [size, setSize] = useState("");
  const images = useQuery({ queryKey: ["images"], queryFn: () => call(api.GET("/api/v1/images")) });
  const versions = (images.data?.items ?? []).flatMap((i) => {
    const named = i.tracks.map((t) => t.version).filter((v) => v);
    return [...new Set(named)].map((v) => `${i.name} ${v}`);
  });
  const [image, version] = from.split(" ");
  const bases = useQuery({ queryKey: ["bases"], queryFn: () => call(api.GET("/api/v1/bases")) });
  const named = from.startsWith(BASE) ? from.slice(BASE.length) : "";
  const sites = useQuery({
    queryKey: ["sites"],
    queryFn: () => call(api.GET("/api/v1/sites")),
    enabled: !here,
  });
  const site = here ?? (chosen || (sites.data?.items[0]?.name ?? ""));
  const queries = useQueryClient();
  return (
    <FormDialog
      label="Make a build machine"
      button={of ? {} : { size: "sm", variant: "solid", colorPalette: "deep" }}
      title={
        of
          ? `Make a build machine from ${of}`
          : here
            ? `Make a build machine at ${here}`
            : "Make a build machine"
      }
      done={from === HOST ? `${name} is made when nobody is on ${host.trim()}.` : `${name} is being made.`}
      submit={async () => {
        await call(
          api.POST("/api/v1/sites/{site}/build-machines", {
            params: { path: { site } },
            body: {
              name,
              purpose: purpose.trim(),
              ...(cores && { cores: Number(cores) }),
              ...(memory && { memory_bytes: Number(memory) * GiB }),
              ...(size && { disk_bytes: Number(size) * GiB }),
              ...(from === HOST
                ? { host: host.trim() }
                : named
                  ? { base: named, machine_class: machineClass.trim() }
                  : from
                    ? { image, version }
                    : { base_disk: disk.trim(), machine_class: machineClass.trim() }),
            },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["build-machines"] });
      }}
    >
      {!here && (
        <Field.Root>
          <Field.Label>Site</Field.Label>
          <NativeSelect.Root>
            <NativeSelect.Field value={site} onChange={(e) => setSite(e.target.value)}>
              {(sites.data?.items ?? []).map((s) => (
                <option key={s.name} value={s.name}>
                  {s.name}
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Field.Root>
      )}
      <Field.Root required>
        <Field.Label>Name</Field.Label>
        <Input value={name} onChange={(e) => setName(e.target.value)} placeholder="bm-december" />
      </Field.Root>
      <Field.Root>
        <Field.Label>For</Field.Label>
        <Input
          value={purpose}
          onChange={(e) => setPurpose(e.target.value)}
          maxLength={200}
          placeholder="to try the new printer"
        />
      </Field.Root>
      {!of && (
        <Field.Root>
          <Field.Label>Made from</Field.Label>
          <NativeSelect.Root>
            <NativeSelect.Field value={from} onChange={(e) => setFrom(e.target.value)}>
              <option value="">a base disk</option>
              <option value={HOST}>a host</option>
              {(bases.data?.items ?? [])
                .filter((b) => b.state === "ready")
                .map((b) => (
                  <option key={b.name} value={BASE + b.name}>
                    base {b.name}
                  </option>
                ))}
              {versions.map((v) => (
                <option key={v} value={v}>
                  {v}
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Field.Root>
      )}
      {from === HOST && !of && (
        <Field.Root required>
          <Field.Label>Host</Field.Label>
          <Input value={host} onChange={(e) => setHost(e.target.value)} placeholder="tc-007" />
        </Field.Root>
      )}
      {from === HOST && (
        <Text fontSize="sm" color="fg.quiet">
          It is drained, and its disk is copied when nobody is on it any more. It is out of service then until
          it is rebuilt. Discard the build machine while it still waits, and the host is put back to service.
        </Text>
      )}
      {!from && (
        <Field.Root required>
          <Field.Label>Base disk</Field.Label>
          <Input value={disk} onChange={(e) => setDisk(e.target.value)} placeholder="debian.qcow2" />
          <Field.HelperText>Name of a disk in the site's storage</Field.HelperText>
        </Field.Root>
      )}
      {(!from || named) && (
        <Field.Root required>
          <Field.Label>Machine class</Field.Label>
          <Input
            value={machineClass}
            onChange={(e) => setMachineClass(e.target.value)}
            placeholder="standard"
          />
        </Field.Root>
      )}
      <HStack align="start">
        {(
          [
            ["Cores", cores, setCores],
            ["Memory in GiB", memory, setMemory],
            ["Disk in GiB", size, setSize],
          ] as const
        ).map(([label, value, set]) => (
          <Field.Root key={label}>
            <Field.Label>{label}</Field.Label>
            <Input
              type="number"
              min={1}
              value={value}
              onChange={(e) => set(e.target.value)}
              placeholder="as usual"
            />
          </Field.Root>
        ))}
      </HStack>
    </FormDialog>
  );
}
