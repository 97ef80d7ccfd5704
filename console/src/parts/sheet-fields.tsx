import { Button, Flex, Input, NativeSelect, Textarea } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { Check, Labelled } from "./fields";

/** How a value of a sheet is entered. */
export type Way =
  | "text" // one line
  | "number"
  | "lines" // a text of several lines
  | "list" // texts, a line each
  | "numbers" // with commas between
  | "pairs" // NAME = VALUE, a line each
  | "texts" // several texts by their names
  | "check"
  | { choice: string[] };

export type Field = { key: string; label: string; way: Way; help?: string; long?: boolean };

/** A field of a form that is written back when one leaves it: half of a word is no value. */
export function Entry(props: {
  label: string;
  way: Way;
  value: unknown;
  set: (value: unknown) => void;
  help?: string;
}) {
  const { way, value, set, label, help } = props;
  if (way === "check")
    return <Check label={label} checked={value === true} set={(on) => set(on || undefined)} />;
  if (way === "texts") return <Texts {...props} />;
  if (typeof way === "object")
    return (
      <Labelled label={label} help={help}>
        <NativeSelect.Root>
          <NativeSelect.Field value={String(value ?? "")} onChange={(e) => set(e.target.value)}>
            <option value="" />
            {way.choice.map((c) => (
              <option key={c} value={c}>
                {c}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Labelled>
    );
  return (
    <Labelled label={label} help={help}>
      <Draft
        text={written(value, way)}
        set={(text) => set(read(text, way))}
        several={way === "lines" || way === "list" || way === "pairs"}
        number={way === "number"}
      />
    </Labelled>
  );
}

function written(value: unknown, way: Way): string {
  if (value === undefined || value === null) return "";
  if (Array.isArray(value)) return value.join(way === "numbers" ? ", " : "\n");
  if (way === "pairs" && typeof value === "object")
    return Object.entries(value)
      .map(([name, v]) => `${name} = ${v}`)
      .join("\n");
  return String(value);
}

function read(text: string, way: Way): unknown {
  const lines = text.split("\n").filter((l) => l.trim());
  switch (way) {
    case "number":
      return text.trim() === "" ? undefined : Number(text);
    case "numbers":
      return text
        .split(",")
        .filter((n) => n.trim())
        .map(Number);
    case "list":
      return lines.map((l) => l.trim());
    case "pairs":
      return Object.fromEntries(
        lines.map((l) => {
          const at = l.indexOf("=");
          return at < 0 ? [l.trim(), ""] : [l.slice(0, at).trim(), l.slice(at + 1).trim()];
        }),
      );
    case "lines":
      return text && !text.endsWith("\n") ? `${text}\n` : text;
    default:
      return text.trim();
  }
}

/** What is written, until one leaves the field. */
function Draft(props: { text: string; set: (text: string) => void; several?: boolean; number?: boolean }) {
  const [draft, setDraft] = useState(props.text);
  const within = useRef(false);
  useEffect(() => {
    if (!within.current) setDraft(props.text);
  }, [props.text]);
  const shared = {
    value: draft,
    onFocus: () => {
      within.current = true;
    },
    onBlur: () => {
      within.current = false;
      if (draft !== props.text) props.set(draft);
    },
  };
  if (props.several)
    return (
      <Textarea
        {...shared}
        onChange={(e) => setDraft(e.target.value)}
        rows={Math.min(12, Math.max(2, draft.split("\n").length))}
        fontFamily="mono"
        fontSize="sm"
        spellCheck={false}
      />
    );
  return (
    <Input
      {...shared}
      size="sm"
      type={props.number ? "number" : "text"}
      onChange={(e) => setDraft(e.target.value)}
      onKeyDown={(e) => {
        if (e.key === "Enter" && draft !== props.text) props.set(draft);
      }}
    />
  );
}

/** Several texts, each with a name, such as files by their paths. */
function Texts({ label, value, set }: { label: string; value: unknown; set: (value: unknown) => void }) {
  const all = Object.entries((value ?? {}) as Record<string, string>);
  const [name, setName] = useState("");
  return (
    <Flex direction="column" gap="2" w="full">
      {all.map(([path, text]) => (
        <Flex key={path} gap="2" align="start">
          <Labelled label={`${label}: ${path}`}>
            <Draft
              text={text}
              several
              set={(t) => set({ ...Object.fromEntries(all), [path]: t.endsWith("\n") ? t : `${t}\n` })}
            />
          </Labelled>
          <Button
            size="xs"
            variant="ghost"
            onClick={() => set(Object.fromEntries(all.filter(([other]) => other !== path)))}
          >
            Take away
          </Button>
        </Flex>
      ))}
      <Flex gap="2" align="end">
        <Labelled label={`${label}: another one`}>
          <Input
            size="sm"
            value={name}
            onChange={(e) => setName(e.target.value)}
            placeholder=".config/fares.conf"
          />
        </Labelled>
        <Button
          size="sm"
          variant="outline"
          disabled={!name.trim()}
          onClick={() => {
            set({ ...Object.fromEntries(all), [name.trim()]: "\n" });
            setName("");
          }}
        >
          Add
        </Button>
      </Flex>
    </Flex>
  );
}
