import { Box, Button, Field, HStack, Input, NativeSelect, Progress, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { api, type Base, call } from "../api";
import { size, span } from "../format";
import { useSigned } from "../session";
import { FormDialog, Problem } from "../ui";
import { sendBase, useSending } from "../uploads";

const labels = ["publisher", "product", "edition", "release"] as const;

/** Brings in a base: from an address that the service fetches it from, or from a file here. */
export function BringBase() {
  const [name, setName] = useState("");
  const [from, setFrom] = useState<"address" | "file">("address");
  const [address, setAddress] = useState("");
  const [file, setFile] = useState<File>();
  const [digest, setDigest] = useState("");
  const [said, setSaid] = useState<Partial<Record<(typeof labels)[number], string>>>({});
  const queries = useQueryClient();
  const go = useNavigate();
  return (
    <FormDialog
      label="Bring in a base"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      title="Bring in a base"
      done={`${name.trim()} is coming.`}
      submit={async () => {
        if (from === "file" && !file) throw new Error("Choose a file first.");
        const base = await call(
          api.POST("/api/v1/bases", {
            body: {
              name: name.trim(),
              labels: said,
              ...(digest.trim() && { sha256: digest.trim() }),
              ...(from === "file" ? { file: file?.name, size: file?.size } : { address: address.trim() }),
            },
          }),
        );
        if (file && from === "file") void sendBase(base, file);
        await queries.invalidateQueries({ queryKey: ["bases"] });
        go(`/bases/${base.name}`);
      }}
    >
      <Field.Root required>
        <Field.Label>Name</Field.Label>
        <Input value={name} onChange={(e) => setName(e.target.value)} placeholder="debian-13" />
        <Field.HelperText>What build sheets call it</Field.HelperText>
      </Field.Root>
      <Field.Root>
        <Field.Label>It comes from</Field.Label>
        <NativeSelect.Root>
          <NativeSelect.Field value={from} onChange={(e) => setFrom(e.target.value as typeof from)}>
            <option value="address">an address, which the service fetches it from</option>
            <option value="file">a file here</option>
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Field.Root>
      {from === "address" ? (
        <Field.Root required>
          <Field.Label>Address</Field.Label>
          <Input
            value={address}
            onChange={(e) => setAddress(e.target.value)}
            placeholder="https://images.example/debian-13.qcow2"
          />
        </Field.Root>
      ) : (
        <Field.Root required>
          <Field.Label>File</Field.Label>
          <input type="file" aria-label="File" onChange={(e) => setFile(e.target.files?.[0])} />
          <Field.HelperText>raw, qcow2, VHD, VHDX or VMDK: that is found by what is in it</Field.HelperText>
        </Field.Root>
      )}
      <Field.Root>
        <Field.Label>SHA-256</Field.Label>
        <Input
          value={digest}
          onChange={(e) => setDigest(e.target.value)}
          fontFamily="mono"
          placeholder="as it was published, if it was"
        />
      </Field.Root>
      <HStack align="start" wrap="wrap">
        {labels.map((l) => (
          <Field.Root key={l} flex="1" minW="11rem">
            <Field.Label>{l.charAt(0).toUpperCase() + l.slice(1)}</Field.Label>
            <Input value={said[l] ?? ""} onChange={(e) => setSaid({ ...said, [l]: e.target.value })} />
          </Field.Root>
        ))}
      </HStack>
    </FormDialog>
  );
}

/** How far a base is that is coming, which anybody sees who looks at it, and a way to go on with one that was sent. */
export function Coming({ of: b }: { of: Base }) {
  const { may } = useSigned();
  const here = useSending(b.name);
  const choose = useRef<HTMLInputElement>(null);
  const act = useMutation({ mutationFn: (file: File) => sendBase(b, file) });
  const converting = b.state === "converting";
  const percent = converting ? b.progress : b.size ? Math.floor((100 * b.have) / b.size) : 0;
  return (
    <Box mb="4">
      <Progress.Root value={percent} max={100} colorPalette="deep" aria-label={`How far ${b.name} is`} mb="2">
        <Progress.Track>
          <Progress.Range />
        </Progress.Track>
      </Progress.Root>
      <Text fontSize="sm" color="fg.quiet">
        {converting
          ? `It is converted and looked into, ${percent}%.`
          : `${size(b.have)}${b.size ? ` of ${size(b.size)}, ${percent}%` : ""} ${b.state === "fetching" ? "fetched" : "sent"}`}
        {!converting && !!b.rate && `, ${size(b.rate)} a second`}
        {!converting && !!b.seconds_left && `, ${span(Math.ceil(b.seconds_left))} left`}
        {!converting && "."}
        {b.why && ` ${b.why}`}
      </Text>
      {b.state === "receiving" && may("operator") && (!here || here.error) && (
        <HStack mt="2">
          <input
            ref={choose}
            type="file"
            hidden
            aria-label={`The file of ${b.name}`}
            onChange={(e) => {
              const file = e.target.files?.[0];
              if (file) act.mutate(file);
            }}
          />
          <Button size="xs" variant="outline" onClick={() => choose.current?.click()}>
            Go on sending
          </Button>
          <Text fontSize="sm" color="fg.quiet">
            It is not sent from this tab: choose the same file ({b.file}), and it goes on where it was.
          </Text>
        </HStack>
      )}
      {here?.error && <Problem error={here.error} />}
      {act.error && <Problem error={act.error} />}
    </Box>
  );
}
