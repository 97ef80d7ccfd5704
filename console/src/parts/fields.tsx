import { Button, Checkbox, Field, FileUpload, Input, Textarea } from "@chakra-ui/react";
import { type ReactNode, useState } from "react";
import { day } from "../format";

/** A field with its label, and help below. */
export function Labelled(props: {
  label: string;
  help?: ReactNode;
  required?: boolean;
  children: ReactNode;
}) {
  return (
    <Field.Root flex="1" minW="min(190px, 100%)" required={props.required}>
      <Field.Label>{props.label}</Field.Label>
      {props.children}
      {props.help && <Field.HelperText>{props.help}</Field.HelperText>}
    </Field.Root>
  );
}

/** Lines of a file, as they stand there. */
export function Lines(props: { value: string; set: (text: string) => void; rows: number }) {
  return (
    <Textarea
      value={props.value}
      onChange={(e) => props.set(e.target.value)}
      rows={props.rows}
      fontFamily="mono"
      fontSize="sm"
      spellCheck={false}
    />
  );
}

export function Check(props: { checked: boolean; set: (on: boolean) => void; label: string }) {
  return (
    <Checkbox.Root checked={props.checked} onCheckedChange={(e) => props.set(e.checked === true)} size="sm">
      <Checkbox.HiddenInput />
      <Checkbox.Control />
      <Checkbox.Label>{props.label}</Checkbox.Label>
    </Checkbox.Root>
  );
}

/** A button that reads a YAML file. */
export function FileChoice({ label, read }: { label: string; read: (text: string) => void }) {
  return (
    <FileUpload.Root
      accept={[".yaml", ".yml"]}
      maxFileSize={1_000_000}
      onFileAccept={({ files }) => void files[0]?.text().then(read)}
    >
      <FileUpload.HiddenInput aria-label={label} />
      <FileUpload.Trigger asChild>
        <Button size="xs" variant="outline">
          Choose a file
        </Button>
      </FileUpload.Trigger>
    </FileUpload.Root>
  );
}

/** What people write about a version: in a form as texts. */
export type Written = { notes: string; tags: string; end: string };

const nothing: Written = { notes: "", tags: "", end: "" };

/** Keeps what is written about a version in a form; reset begins with what there is. */
export function useWritten() {
  const [written, set] = useState(nothing);
  return {
    written,
    set,
    reset: (of?: { notes: string; tags: string[]; end_of_life?: string }) =>
      set(of ? { notes: of.notes, tags: of.tags.join(", "), end: day(of.end_of_life) } : nothing),
    /** As the service takes it. */
    body: {
      notes: written.notes,
      tags: written.tags
        .split(",")
        .map((t) => t.trim())
        .filter(Boolean),
      end_of_life: written.end ? `${written.end}T00:00:00Z` : undefined,
    },
  };
}

/** The fields of what people write about a version. */
export function WrittenFields({ written, set }: { written: Written; set: (to: Written) => void }) {
  return (
    <>
      <Labelled label="Notes">
        <Textarea
          value={written.notes}
          onChange={(e) => set({ ...written, notes: e.target.value })}
          rows={4}
        />
      </Labelled>
      <Labelled label="Tags, with commas between">
        <Input value={written.tags} onChange={(e) => set({ ...written, tags: e.target.value })} />
      </Labelled>
      <Labelled label="End-of-life">
        <Input type="date" value={written.end} onChange={(e) => set({ ...written, end: e.target.value })} />
      </Labelled>
    </>
  );
}
