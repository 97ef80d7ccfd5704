import { Box, Button, Flex, HStack, Input, NativeSelect, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { api, call } from "../api";
import { Empty, Panel } from "../ui";
import { Check, Labelled } from "./fields";
import { Entry, type Field } from "./sheet-fields";
import {
  applicationFields,
  everyStep,
  kindOf,
  parameterFields,
  stepKinds,
  versionFields,
} from "./sheet-kinds";
import {
  append,
  at,
  moveStep,
  type Place,
  put,
  readSheet,
  removeStep,
  type SheetStep,
  stepsOf,
} from "./sheet-text";

type Form = { sheet: Record<string, unknown>; text: string; set: (text: string) => void };

/** A sheet as a form: it reads the text, and writes each change back into it. */
export function SheetForm(props: {
  text: string;
  set: (text: string) => void;
  tryStep: (step: string) => ReactNode;
}) {
  const sheet = readSheet(props.text);
  if (!sheet)
    return (
      <Panel>
        <Empty>The text is not written so that a form could be made of it. Mend it as text first.</Empty>
      </Panel>
    );
  const form = { sheet, text: props.text, set: props.set };
  return (
    <>
      <Basics {...form} />
      <Steps {...form} tryStep={props.tryStep} />
      <Panel title="The version">
        <Fields of={versionFields} place={["version"]} {...form} />
      </Panel>
      <Applications {...form} />
      <Parameters {...form} />
    </>
  );
}

/** Fields beside each other, as many as there is room for. */
function Grid({ children }: { children: ReactNode }) {
  return (
    <Box
      display="grid"
      gridTemplateColumns="repeat(auto-fill, minmax(150px, 1fr))"
      gap="3"
      alignItems="start"
    >
      {children}
    </Box>
  );
}

function Fields({ of, place, sheet, text, set }: Form & { of: Field[]; place: Place }) {
  return (
    <Grid>
      {of.map((f) => (
        <Box
          key={f.key}
          gridColumn={f.long ? "1 / -1" : undefined}
          alignSelf={f.way === "check" ? "center" : undefined}
        >
          <Entry
            label={f.label}
            way={f.way}
            help={f.help}
            value={at(sheet, [...place, f.key])}
            set={(value) => set(put(text, [...place, f.key], value))}
          />
        </Box>
      ))}
    </Grid>
  );
}

/** What a base of another kind begins as: the name that stood there, if one did. */
function begins(before: unknown) {
  return typeof before === "string" ? before : "live";
}

function Basics(form: Form) {
  const { sheet, text, set } = form;
  const images = useQuery({ queryKey: ["images"], queryFn: () => call(api.GET("/api/v1/images")) });
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => call(api.GET("/api/v1/sites")) });
  const bases = useQuery({ queryKey: ["bases"], queryFn: () => call(api.GET("/api/v1/bases")) });
  const feeds = useQuery({ queryKey: ["feeds"], queryFn: () => call(api.GET("/api/v1/feeds")) });
  const names = (of?: { items: { name: string }[] }) => (of?.items ?? []).map((i) => i.name);
  const base =
    ["track", "version", "named", "vendor", "disk"].find((k) => at(sheet, ["base", k]) !== undefined) ??
    "track";
  return (
    <Panel title="What is made, and from what">
      <Grid>
        <Entry
          label="Image"
          way={{ choice: names(images.data) }}
          value={sheet.image}
          set={(v) => set(put(text, ["image"], v))}
        />
        <Labelled label="Begins with">
          <NativeSelect.Root>
            <NativeSelect.Field
              value={base}
              onChange={(e) =>
                set(
                  put(text, ["base"], {
                    [e.target.value]: e.target.value === "vendor" ? {} : begins(at(sheet, ["base", base])),
                  }),
                )
              }
            >
              <option value="track">what a track names</option>
              <option value="version">a version</option>
              <option value="named">a base</option>
              <option value="vendor">a vendor's release</option>
              <option value="disk">a base disk</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Labelled>
        {base !== "vendor" && (
          <Entry
            label={{ track: "Track", version: "Version", named: "Base", disk: "Disk" }[base] ?? "Base"}
            way={base === "named" ? { choice: names(bases.data) } : "text"}
            value={at(sheet, ["base", base])}
            set={(v) => set(put(text, ["base", base], v))}
          />
        )}
        <Entry
          label="Site"
          way={{ choice: names(sites.data) }}
          value={at(sheet, ["machine", "site"])}
          set={(v) => set(put(text, ["machine", "site"], v))}
        />
      </Grid>
      {base === "vendor" && (
        <Box mt="3">
          <Fields
            of={[
              { key: "feed", label: "Feed", way: { choice: names(feeds.data) } },
              { key: "product", label: "Product", way: "text" },
              { key: "edition", label: "Edition", way: "text" },
              { key: "release", label: "Release", way: "text" },
              { key: "serial", label: "Serial", way: "text", help: "The newest if it is left out" },
            ]}
            place={["base", "vendor"]}
            {...form}
          />
        </Box>
      )}
      <Box mt="3">
        <Fields
          of={[
            { key: "cores", label: "Cores", way: "number" },
            { key: "memory", label: "Memory", way: "text", help: "Such as 8GiB" },
            { key: "disk", label: "Disk", way: "text", help: "Such as 60GiB" },
          ]}
          place={["machine"]}
          {...form}
        />
      </Box>
      <Box mt="3" maxW="14rem">
        <Entry
          label="Time limit of the whole"
          way="text"
          help="4h if left out"
          value={sheet["time-limit"]}
          set={(v) => set(put(text, ["time-limit"], v))}
        />
      </Box>
    </Panel>
  );
}

/** A name that no step has. */
function fresh(name: string, steps: SheetStep[]): string {
  let n = 1;
  let is = name;
  while (steps.some((s) => s.name === is)) is = `${name} ${++n}`;
  return is;
}

function Steps(form: Form & { tryStep: (step: string) => ReactNode }) {
  const { sheet, text, set } = form;
  const steps = stepsOf(sheet);
  const [open, setOpen] = useState<number>();
  const library = useQuery({
    queryKey: ["ready-steps"],
    queryFn: () => call(api.GET("/api/v1/ready-steps")),
  });
  const add = (what: string) => {
    const kind = stepKinds.find((k) => k.kind === what);
    const step: SheetStep = kind
      ? { name: fresh(kind.label, steps), [kind.kind]: kind.starts }
      : { name: fresh(what, steps), ready: { step: what } };
    set(append(text, "steps", step));
    setOpen(steps.length);
  };
  return (
    <Panel title="Steps" aside="They are done in this order">
      {steps.length === 0 && <Empty>There is none yet.</Empty>}
      <Box as="ol" aria-label="Steps">
        {steps.map((step, n) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: a step is its place in the text
          <Box as="li" key={`${n} ${step.name}`} borderTopWidth={n ? "1px" : "0"} borderColor="line" py="2">
            <Flex gap="2" align="center" wrap="wrap">
              <Text w="1.6rem" color="fg.quiet" fontVariantNumeric="tabular-nums">
                {n + 1}
              </Text>
              <Box flex="1" minW="12rem">
                <Text fontWeight="600" textDecoration={step.off ? "line-through" : undefined}>
                  {String(step.name ?? "a step without a name")}
                </Text>
                <Text fontSize="sm" color="fg.quiet">
                  {kindOf(step)?.label ??
                    ("ready" in step ? `Ready step ${at(step, ["ready", "step"])}` : "It does nothing yet")}
                  {step.off ? ", switched off" : ""}
                </Text>
              </Box>
              <HStack gap="1">
                <Button
                  size="xs"
                  variant="ghost"
                  aria-label={`Move ${step.name} up`}
                  disabled={n === 0}
                  onClick={() => {
                    set(moveStep(text, n, n - 1));
                    setOpen(undefined);
                  }}
                >
                  ↑
                </Button>
                <Button
                  size="xs"
                  variant="ghost"
                  aria-label={`Move ${step.name} down`}
                  disabled={n === steps.length - 1}
                  onClick={() => {
                    set(moveStep(text, n, n + 1));
                    setOpen(undefined);
                  }}
                >
                  ↓
                </Button>
                <Button
                  size="xs"
                  variant="outline"
                  aria-label={`Switch ${step.off ? "on" : "off"} ${step.name}`}
                  onClick={() => set(put(text, ["steps", n, "off"], step.off ? undefined : true))}
                >
                  {step.off ? "Switch on" : "Switch off"}
                </Button>
                <Button
                  size="xs"
                  variant="outline"
                  aria-expanded={open === n}
                  aria-label={`${open === n ? "Close" : "Change"} ${step.name}`}
                  onClick={() => setOpen(open === n ? undefined : n)}
                >
                  {open === n ? "Close" : "Change"}
                </Button>
                <Button
                  size="xs"
                  variant="ghost"
                  aria-label={`Take away ${step.name}`}
                  onClick={() => {
                    set(removeStep(text, n));
                    setOpen(undefined);
                  }}
                >
                  Take away
                </Button>
              </HStack>
            </Flex>
            {open === n && (
              <Box pl="1.9rem" pt="3">
                <StepFields {...form} step={step} n={n} library={library.data?.items ?? []} />
                {step.name && <Box mt="3">{form.tryStep(String(step.name))}</Box>}
              </Box>
            )}
          </Box>
        ))}
      </Box>
      <Box maxW="20rem" mt="3">
        <Labelled label="Add a step">
          <NativeSelect.Root>
            <NativeSelect.Field value="" onChange={(e) => e.target.value && add(e.target.value)}>
              <option value="">Choose what it does</option>
              <optgroup label="Steps">
                {stepKinds.map((k) => (
                  <option key={k.kind} value={k.kind}>
                    {k.label}
                  </option>
                ))}
              </optgroup>
              <optgroup label="Ready steps">
                {(library.data?.items ?? []).map((r) => (
                  <option key={r.name} value={r.name}>
                    {r.name}: {r.about}
                  </option>
                ))}
              </optgroup>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Labelled>
      </Box>
    </Panel>
  );
}

function StepFields(form: Form & { step: SheetStep; n: number; library: { name: string; text: string }[] }) {
  const { step, n, text, set, library } = form;
  const kind = kindOf(step);
  const place: Place = ["steps", n];
  const ready = library.find((r) => r.name === at(step, ["ready", "step"]));
  const wants = Object.entries((readSheet(ready?.text ?? "")?.parameters ?? {}) as Record<string, unknown>);
  return (
    <Flex direction="column" gap="3">
      <Fields of={everyStep} place={place} {...form} />
      {kind && <Fields of={kind.fields} place={[...place, kind.kind]} {...form} />}
      {kind?.kind === "update" && (
        <Check
          label="Restart the machine between, if one of them needs it"
          checked={at(step, ["update", "restart"]) !== false}
          set={(on) => set(put(text, [...place, "update", "restart"], on ? undefined : false))}
        />
      )}
      {kind?.kind === "script" && (
        <Fields
          of={[
            {
              key: "exit-codes",
              label: "Exit codes that count as done",
              way: "numbers",
              help: "0 if left out",
            },
            { key: "proof", label: "A proof, run once on the machine of the first start", way: "check" },
          ]}
          place={place}
          {...form}
        />
      )}
      {wants.length > 0 && (
        <Fields
          of={wants.map(([name, of]) => ({
            key: name,
            label: String(at(of, ["about"]) ?? name),
            way: "text",
            help: at(of, ["default"]) === undefined ? "Wanted" : `${at(of, ["default"])} if left out`,
          }))}
          place={[...place, "ready", "with"]}
          {...form}
        />
      )}
      {kind && (
        <Fields
          of={[
            {
              key: "do",
              label: "If it fails",
              way: { choice: ["stop", "go-on", "again"] },
              help: "stop if left out",
            },
            ...(at(step, ["on-failure", "do"]) === "again"
              ? ([
                  { key: "times", label: "Again, up to so often", way: "number" },
                  { key: "pause", label: "Pause before that", way: "text", help: "30s if left out" },
                ] as Field[])
              : []),
          ]}
          place={[...place, "on-failure"]}
          {...form}
        />
      )}
    </Flex>
  );
}

function Applications(form: Form) {
  const { sheet, text, set } = form;
  const all = Array.isArray(sheet.applications) ? sheet.applications : [];
  return (
    <Panel title="Applications" aside="What people open; they are tried at the first start">
      {all.map((a, n) => {
        const opens = Object.keys((at(a, ["opens"]) ?? {}) as object)[0] ?? "process";
        const place: Place = ["applications", n];
        return (
          // biome-ignore lint/suspicious/noArrayIndexKey: an application is its place in the text
          <Box key={n} borderTopWidth={n ? "1px" : "0"} borderColor="line" py="3">
            <Fields of={applicationFields} place={place} {...form} />
            <Flex gap="3" mt="2" wrap="wrap" align="end">
              <Labelled label="One sees that it opens by">
                <NativeSelect.Root>
                  <NativeSelect.Field
                    value={opens}
                    onChange={(e) =>
                      set(put(text, [...place, "opens"], { [e.target.value]: at(a, ["opens", opens]) ?? "" }))
                    }
                  >
                    <option value="exit-code">its exit code</option>
                    <option value="process">a process</option>
                    <option value="window">the title of a window</option>
                    <option value="port">a port</option>
                    <option value="http">an answer over HTTP</option>
                  </NativeSelect.Field>
                  <NativeSelect.Indicator />
                </NativeSelect.Root>
              </Labelled>
              <Entry
                label="Which"
                way={opens === "exit-code" || opens === "port" ? "number" : "text"}
                value={at(a, ["opens", opens])}
                set={(v) => set(put(text, [...place, "opens", opens], v))}
              />
              <Button size="sm" variant="ghost" onClick={() => set(put(text, place, undefined))}>
                Take {String(at(a, ["name"]) ?? "it")} away
              </Button>
            </Flex>
          </Box>
        );
      })}
      <Button
        size="sm"
        variant="outline"
        mt="2"
        onClick={() =>
          set(
            append(text, "applications", {
              name: fresh("Application", all as SheetStep[]),
              command: "/usr/bin/",
              opens: { process: "" },
            }),
          )
        }
      >
        Add an application
      </Button>
    </Panel>
  );
}

/** What was written as text, as a value of a parameter's type. */
function typed(value: unknown, type: unknown): unknown {
  if (Array.isArray(value)) return value.map((v) => typed(v, type));
  if (type === "number" && value !== "" && !Number.isNaN(Number(value))) return Number(value);
  if (type === "switch" && (value === "true" || value === "false")) return value === "true";
  return value;
}

function Parameters(form: Form) {
  const { sheet, text, set } = form;
  const all = Object.entries((sheet.parameters ?? {}) as Record<string, unknown>);
  const [name, setName] = useState("");
  return (
    <Panel title="Parameters" aside="What whoever starts a build may choose; named as {{name}}">
      {all.map(([name, of], n) => (
        <Box key={name} borderTopWidth={n ? "1px" : "0"} borderColor="line" py="3">
          <Flex justify="space-between">
            <Text fontWeight="600">{name}</Text>
            <Button size="xs" variant="ghost" onClick={() => set(put(text, ["parameters", name], undefined))}>
              Take {name} away
            </Button>
          </Flex>
          <Flex wrap="wrap" gap="3" align="start">
            {parameterFields.map((f) => (
              <Box key={f.key} flex="1" minW="180px">
                <Entry
                  {...f}
                  value={at(of, [f.key])}
                  set={(v) =>
                    set(
                      put(
                        text,
                        ["parameters", name, f.key],
                        f.key === "default" || f.key === "allowed" ? typed(v, at(of, ["type"])) : v,
                      ),
                    )
                  }
                />
              </Box>
            ))}
          </Flex>
        </Box>
      ))}
      <Flex gap="2" align="end" maxW="24rem">
        <Labelled label="Another one">
          <Input size="sm" value={name} onChange={(e) => setName(e.target.value)} placeholder="queue" />
        </Labelled>
        <Button
          size="sm"
          variant="outline"
          disabled={!name.trim()}
          onClick={() => {
            set(put(text, ["parameters", name.trim()], { type: "text" }));
            setName("");
          }}
        >
          Add
        </Button>
      </Flex>
    </Panel>
  );
}
