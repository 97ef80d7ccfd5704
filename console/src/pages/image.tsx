import {
  Box,
  Button,
  Checkbox,
  CloseButton,
  Dialog,
  Field,
  HStack,
  Input,
  NativeSelect,
  Portal,
  Table,
  Text,
  Textarea,
  VStack,
} from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useCallback, useRef, useState } from "react";
import { useParams } from "react-router";
import { api, call, type Image, type Version } from "../api";
import { count, day, shortDigest, size, time } from "../format";
import { Preview } from "../preview";
import { useSigned } from "../session";
import { Act, Empty, Facts, FormDialog, List, Page, Panel, Shown, State, Words } from "../ui";
import { Tracks } from "./images";

export function ImagePage() {
  const name = useParams().image ?? "";
  const { may } = useSigned();
  const path = { params: { path: { image: name } } };
  const image = useQuery({
    queryKey: ["images", name],
    queryFn: () => call(api.GET("/api/v1/images/{image}", path)),
  });
  const versions = useQuery({
    queryKey: ["versions", name],
    queryFn: () => call(api.GET("/api/v1/images/{image}/versions", path)),
  });
  return (
    <Page
      title={name}
      lead={
        image.data &&
        `${image.data.title} · ${image.data.machine_class} machines · clearance: ${count(image.data.testers, "tester")}, ${image.data.soak} on pilot, ${image.data.copies} copies per site`
      }
      actions={
        image.data && (
          <>
            {may("operator") && <Capture image={image.data} />}
            {may("approver") && <RollBack image={image.data} />}
          </>
        )
      }
    >
      <Shown query={image}>
        {(i) => (
          <>
            <Panel title="Tracks">
              <Tracks image={i} />
            </Panel>
            {i.tracks[0].version && i.tracks[0].version !== i.tracks[i.tracks.length - 1].version && (
              <Trial image={i} number={i.tracks[0].version} />
            )}
          </>
        )}
      </Shown>
      <Panel title="Versions" aside="newest first">
        <Shown query={versions}>
          {({ items }) =>
            items.length === 0 ? (
              <Empty>There is no version yet. Capture one from a build machine.</Empty>
            ) : (
              <List
                label="Versions"
                head={["Version", "State", "Standing", "Hosts", "Copies", "End-of-life", "Notes", "Actions"]}
              >
                {items.map((v) => (
                  <VersionRow key={v.number} version={v} />
                ))}
              </List>
            )
          }
        </Shown>
      </Panel>
    </Page>
  );
}

/** The copies of a version at each site. */
function copiesOf(v: Version): string[] {
  const sites = new Map<string, [number, number]>();
  for (const c of v.copies) {
    const [there, all] = sites.get(c.site) ?? [0, 0];
    sites.set(c.site, [there + (c.state === "present" ? 1 : 0), all + 1]);
  }
  return [...sites].map(([site, [there, all]]) => `${site} ${there === all ? all : `${there} of ${all}`}`);
}

function VersionRow({ version: v }: { version: Version }) {
  const state = v.barred ? "barred" : v.state;
  return (
    <Table.Row verticalAlign="top">
      <Table.Cell fontWeight="600" fontVariantNumeric="tabular-nums" whiteSpace="nowrap">
        <Details version={v} />
      </Table.Cell>
      <Table.Cell>
        <State>{state}</State>
        {v.state === "capturing" && <Text fontSize="xs">{v.progress}%</Text>}
      </Table.Cell>
      <Table.Cell>{v.standing.join(", ")}</Table.Cell>
      <Table.Cell>{v.hosts || ""}</Table.Cell>
      <Table.Cell fontSize="sm">
        {copiesOf(v).map((c, i) => (
          <span key={c}>
            {i > 0 && ", "}
            <Box as="span" whiteSpace="nowrap">
              {c}
            </Box>
          </span>
        ))}
      </Table.Cell>
      <Table.Cell whiteSpace="nowrap">{day(v.end_of_life)}</Table.Cell>
      <Table.Cell maxW="260px">{v.barred || v.failure || v.notes}</Table.Cell>
      <Table.Cell>
        <VersionActions version={v} />
      </Table.Cell>
    </Table.Row>
  );
}

/** Keeps what a preview saw a track name, so that the act moves the track from there and from nowhere else. */
function useLeaves() {
  const leaves = useRef<string | undefined>(undefined);
  const seen = useCallback((number: string) => {
    leaves.current = number;
  }, []);
  return [leaves, seen] as const;
}

function VersionActions({ version: v }: { version: Version }) {
  const { may } = useSigned();
  const at = { path: { image: v.image, number: v.number } };
  const [leaves, seen] = useLeaves();
  const post = (act: "bar" | "retire") => (reason: string) =>
    call(api.POST(`/api/v1/images/{image}/versions/{number}/${act}`, { params: at, body: { reason } }));
  const usable = v.state === "sealed" && !v.barred;
  return (
    <HStack gap="1" wrap="wrap">
      {may("operator") && usable && !v.standing.includes("pilot") && (
        <Act
          label="Stage"
          title={`Stage ${v.number}`}
          reason="wanted"
          run={(reason) =>
            call(
              api.POST("/api/v1/images/{image}/versions/{number}/stage", {
                params: at,
                body: { reason, leaves: leaves.current },
              }),
            )
          }
          done={`Pilot names ${v.number}.`}
        >
          <Preview of={{ act: "stage", image: v.image, number: v.number }} onSeen={seen} />
        </Act>
      )}
      {may("operator") && usable && v.copies.some((c) => c.state === "failed") && (
        <Act
          label="Deliver again"
          title={`Deliver ${v.number} again`}
          done="The copies are on their way."
          run={() => call(api.POST("/api/v1/images/{image}/versions/{number}/deliver", { params: at }))}
        >
          {v.copies
            .filter((c) => c.state === "failed")
            .map((c) => (
              <Text key={`${c.site} ${c.ordinal}`}>
                {c.site}: {c.failure}
              </Text>
            ))}
        </Act>
      )}
      {may("approver") && usable && !v.standing.includes("live") && <Activate version={v} />}
      {may("operator") && usable && v.standing.includes("pilot") && <SignOff version={v} />}
      {may("approver") && usable && (
        <Act
          label="Bar"
          title={`Bar ${v.number}`}
          reason="needed"
          run={post("bar")}
          done={`${v.number} is barred.`}
          danger
        >
          It will never be used again. This cannot be undone.
        </Act>
      )}
      {may("operator") && v.state === "sealed" && v.standing.includes("shelved") && v.hosts === 0 && (
        <Act
          label="Retire"
          title={`Retire ${v.number}`}
          reason="wanted"
          run={post("retire")}
          done={`${v.number} is retired.`}
          danger
        >
          <Preview of={{ act: "retire", image: v.image, number: v.number }} />
        </Act>
      )}
      {may("operator") && <Edit version={v} />}
    </HStack>
  );
}

function Activate({ version: v }: { version: Version }) {
  const { may } = useSigned();
  const [letGo, setLetGo] = useState(false);
  const [overrule, setOverrule] = useState(false);
  const [leaves, seen] = useLeaves();
  return (
    <Act
      label="Activate"
      title={`Activate ${v.number}`}
      reason={overrule ? "needed" : "wanted"}
      done={`Live names ${v.number}.`}
      run={(reason) =>
        call(
          api.POST("/api/v1/images/{image}/versions/{number}/activate", {
            params: { path: { image: v.image, number: v.number } },
            body: { reason, let_go: letGo, overrule, leaves: leaves.current },
          }),
        )
      }
    >
      <VStack align="start">
        <Preview
          of={{ act: "activate", image: v.image, number: v.number, let_go: letGo, overrule }}
          onSeen={seen}
        />
        <Check
          checked={!letGo}
          set={(c) => setLetGo(!c)}
          label="Keep the version in use before as the fallback"
        />
        {may("administrator") && (
          <Check checked={overrule} set={setOverrule} label="Overrule clearance, with a reason" />
        )}
      </VStack>
    </Act>
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

function SignOff({ version: v }: { version: Version }) {
  const run = (yes: boolean) => (comment: string) =>
    call(
      api.POST("/api/v1/images/{image}/versions/{number}/sign-off", {
        params: { path: { image: v.image, number: v.number } },
        body: { yes, comment },
      }),
    );
  return (
    <>
      <Act
        label="Sign: yes"
        title={`Say yes to ${v.number}`}
        reason="wanted"
        reasonLabel="Comment"
        run={run(true)}
        done="Your yes is recorded."
      />
      <Act
        label="Sign: no"
        title={`Say no to ${v.number}`}
        reason="needed"
        reasonLabel="What was wrong"
        run={run(false)}
        done="Your no is recorded."
        danger
      />
    </>
  );
}

function Trial({ image, number }: { image: Image; number: string }) {
  const trial = useQuery({
    queryKey: ["trials", image.name, number],
    queryFn: () =>
      call(
        api.GET("/api/v1/images/{image}/versions/{number}/trial", {
          params: { path: { image: image.name, number } },
        }),
      ),
    refetchInterval: 15_000, // the soak goes on without an event
  });
  return (
    <Panel
      title={`Trial of ${number}`}
      aside={trial.data && (trial.data.cleared ? "It has clearance." : "It has no clearance yet.")}
    >
      <Shown query={trial}>
        {(t) => (
          <>
            <List label="Clearance" head={["Rule", "Answer", "Why"]}>
              {t.rules.map((r) => (
                <Table.Row key={r.rule}>
                  <Table.Cell w="120px">{r.rule}</Table.Cell>
                  <Table.Cell w="90px">
                    <State>{r.met ? "met" : "not met"}</State>
                  </Table.Cell>
                  <Table.Cell>
                    <Words>{r.why}</Words>
                  </Table.Cell>
                </Table.Row>
              ))}
            </List>
            {t.sign_offs.length > 0 && (
              <Box mt="3">
                <List label="Sign-offs" head={["Tester", "Says", "At", "Comment"]}>
                  {t.sign_offs.map((s) => (
                    <Table.Row key={s.tester}>
                      <Table.Cell w="120px">{s.tester}</Table.Cell>
                      <Table.Cell w="90px">{s.yes ? "yes" : "no"}</Table.Cell>
                      <Table.Cell w="150px">{time(s.at)}</Table.Cell>
                      <Table.Cell>{s.comment}</Table.Cell>
                    </Table.Row>
                  ))}
                </List>
              </Box>
            )}
          </>
        )}
      </Shown>
    </Panel>
  );
}

function Details({ version: v }: { version: Version }) {
  return (
    <Dialog.Root size="lg">
      <Dialog.Trigger asChild>
        <Button variant="plain" size="xs" px="0" color="deep.fg" textDecoration="underline" fontWeight="600">
          {v.number}
        </Button>
      </Dialog.Trigger>
      <Portal>
        <Dialog.Backdrop />
        <Dialog.Positioner>
          <Dialog.Content>
            <Dialog.Header>
              <Dialog.Title>
                {v.image} {v.number}
              </Dialog.Title>
            </Dialog.Header>
            <Dialog.Body>
              <Facts
                of={[
                  ["State", <State key="s">{v.barred ? "barred" : v.state}</State>],
                  ["Standing", v.standing.join(", ")],
                  ["Barred", v.barred && `${v.barred} (${v.barred_by}, ${day(v.barred_at)})`],
                  ["Failure", v.failure],
                  ["Hosts", v.hosts],
                  ["Copies", copiesOf(v).join(", ")],
                  ["Source", v.source],
                  ["Notes", v.notes],
                  ["Tags", v.tags.join(", ")],
                  ["End-of-life", day(v.end_of_life)],
                  ["Captured", `${time(v.created_at)} by ${v.captured_by}`],
                  [
                    "Sealing",
                    v.sealing && v.sealing.length > 0 && (
                      <Box as="ul">
                        {v.sealing.map((s) => (
                          <li key={s}>{s}</li>
                        ))}
                      </Box>
                    ),
                  ],
                  ["Sealed", time(v.sealed_at)],
                  [
                    "Size",
                    size(v.size_bytes) +
                      (v.size_before_bytes ? `, compacted from ${size(v.size_before_bytes)}` : ""),
                  ],
                  ["Digest", v.digest && <code title={v.digest}>{shortDigest(v.digest)}</code>],
                ]}
              />
            </Dialog.Body>
            <Dialog.CloseTrigger asChild>
              <CloseButton size="sm" />
            </Dialog.CloseTrigger>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}

function splitTags(tags: string): string[] {
  return tags
    .split(",")
    .map((t) => t.trim())
    .filter(Boolean);
}

function Edit({ version: v }: { version: Version }) {
  const [notes, setNotes] = useState("");
  const [tags, setTags] = useState("");
  const [end, setEnd] = useState("");
  return (
    <FormDialog
      label="Edit"
      title={`Edit ${v.image} ${v.number}`}
      done="Saved."
      onOpen={() => {
        setNotes(v.notes);
        setTags(v.tags.join(", "));
        setEnd(day(v.end_of_life));
      }}
      submit={() =>
        call(
          api.PATCH("/api/v1/images/{image}/versions/{number}", {
            params: { path: { image: v.image, number: v.number }, header: { "If-Match": `"${v.revision}"` } },
            body: {
              notes,
              tags: splitTags(tags),
              end_of_life: end ? `${end}T00:00:00Z` : undefined,
              clear_end_of_life: !end,
            },
          }),
        )
      }
    >
      <Field.Root>
        <Field.Label>Notes</Field.Label>
        <Textarea value={notes} onChange={(e) => setNotes(e.target.value)} rows={4} />
      </Field.Root>
      <Field.Root>
        <Field.Label>Tags, with commas between</Field.Label>
        <Input value={tags} onChange={(e) => setTags(e.target.value)} />
      </Field.Root>
      <Field.Root>
        <Field.Label>End-of-life</Field.Label>
        <Input type="date" value={end} onChange={(e) => setEnd(e.target.value)} />
      </Field.Root>
    </FormDialog>
  );
}

function Capture({ image }: { image: Image }) {
  const sites = useQuery({ queryKey: ["sites"], queryFn: () => call(api.GET("/api/v1/sites")) });
  const machines = (sites.data?.items ?? []).flatMap((s) =>
    s.build_machines
      .filter((m) => m.machine_class === image.machine_class)
      .map((m) => ({ ...m, site: s.name })),
  );
  const [chosen, setChosen] = useState("");
  const [notes, setNotes] = useState("");
  const [tags, setTags] = useState("");
  const [end, setEnd] = useState("");
  const [discard, setDiscard] = useState(false);
  const from = machines.find((m) => `${m.site}/${m.name}` === chosen) ?? machines[0];
  return (
    <FormDialog
      label="Capture a version"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      title={`Capture ${image.name} ${image.next_number}`}
      done="The capture has begun."
      submit={() =>
        call(
          api.POST("/api/v1/images/{image}/versions", {
            params: { path: { image: image.name } },
            body: {
              build_machine: from?.name ?? "",
              site: from?.site,
              notes,
              tags: splitTags(tags),
              end_of_life: end ? `${end}T00:00:00Z` : undefined,
              discard: discard || undefined,
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
      <Field.Root>
        <Field.Label>Notes</Field.Label>
        <Textarea value={notes} onChange={(e) => setNotes(e.target.value)} rows={3} />
      </Field.Root>
      <Field.Root>
        <Field.Label>Tags, with commas between</Field.Label>
        <Input value={tags} onChange={(e) => setTags(e.target.value)} />
      </Field.Root>
      <Field.Root>
        <Field.Label>End-of-life</Field.Label>
        <Input type="date" value={end} onChange={(e) => setEnd(e.target.value)} />
      </Field.Root>
      <Check checked={discard} set={setDiscard} label="Delete the build machine afterwards" />
    </FormDialog>
  );
}

function RollBack({ image }: { image: Image }) {
  const [leaves, seen] = useLeaves();
  const live = image.tracks[image.tracks.length - 1].version;
  if (!live || !image.fallback) return null;
  return (
    <Act
      label="Roll back"
      title={`Roll ${image.name} back to ${image.fallback}`}
      reason="needed"
      danger
      done={`Live names ${image.fallback} again.`}
      button={{ size: "sm" }}
      run={(reason) =>
        call(
          api.POST("/api/v1/images/{image}/rollback", {
            params: { path: { image: image.name } },
            body: { reason, leaves: leaves.current ?? live },
          }),
        )
      }
    >
      <Preview of={{ act: "rollback", image: image.name }} onSeen={seen} />
    </Act>
  );
}
