import { Box, Field, HStack, Input, Table, Text, Textarea } from "@chakra-ui/react";
import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type Base, call, type Offer } from "../api";
import { size, time } from "../format";
import { useSigned } from "../session";
import { Empty, FormDialog, List, Panel, Shown, To } from "../ui";

/** What people call a release or a base. */
export function titled(l: Base["labels"]) {
  return [l.publisher, l.product, l.edition, l.release].filter(Boolean).join(" ");
}

/** Has the service read a vendor's list of releases from now on. */
export function AddFeed() {
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const [publisher, setPublisher] = useState("");
  const [key, setKey] = useState("");
  const queries = useQueryClient();
  const go = useNavigate();
  return (
    <FormDialog
      label="Add a feed"
      title="Add a feed"
      done={`Feed ${name.trim()} is read.`}
      submit={async () => {
        const feed = await call(
          api.POST("/api/v1/feeds", {
            body: {
              name: name.trim(),
              address: address.trim(),
              publisher: publisher.trim(),
              ...(key.trim() && { key: key.trim() }),
            },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["feeds"] });
        go(`/feeds/${feed.name}`);
      }}
    >
      <Field.Root required>
        <Field.Label>Name</Field.Label>
        <Input value={name} onChange={(e) => setName(e.target.value)} placeholder="estuary" />
      </Field.Root>
      <Field.Root required>
        <Field.Label>Address</Field.Label>
        <Input
          value={address}
          onChange={(e) => setAddress(e.target.value)}
          placeholder="https://images.estuary.example/"
        />
        <Field.HelperText>
          Of the vendor's mirror, below which streams/v1/index.json is, or of an index or a file of products
        </Field.HelperText>
      </Field.Root>
      <Field.Root>
        <Field.Label>Publisher</Field.Label>
        <Input value={publisher} onChange={(e) => setPublisher(e.target.value)} />
        <Field.HelperText>Of releases that do not say theirs</Field.HelperText>
      </Field.Root>
      <Field.Root>
        <Field.Label>Key</Field.Label>
        <Textarea value={key} onChange={(e) => setKey(e.target.value)} rows={3} fontFamily="mono" />
        <Field.HelperText>OpenPGP public key that it has to be signed by, if it is to be</Field.HelperText>
      </Field.Root>
    </FormDialog>
  );
}

/** The feeds, and when they were read. */
export function Feeds() {
  const { may } = useSigned();
  const feeds = useQuery({ queryKey: ["feeds"], queryFn: () => call(api.GET("/api/v1/feeds")) });
  return (
    <Panel title="Vendors' feeds" aside={may("operator") && <AddFeed />}>
      <Shown query={feeds}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>There is no feed yet: a list of a vendor's releases, from which bases are taken.</Empty>
          ) : (
            <List label="Feeds" head={["Feed", "Address", "Releases", "Read"]}>
              {items.map((f) => (
                <Table.Row key={f.name}>
                  <Table.Cell fontWeight="500">
                    <To to={`/feeds/${f.name}`}>{f.name}</To>
                  </Table.Cell>
                  <Table.Cell wordBreak="break-all">{f.address}</Table.Cell>
                  <Table.Cell>{f.releases}</Table.Cell>
                  <Table.Cell>
                    {f.seen_at ? time(f.seen_at) : "not yet"}
                    {f.why && (
                      <Text color="fg.bad" fontSize="sm">
                        {f.why}
                      </Text>
                    )}
                  </Table.Cell>
                </Table.Row>
              ))}
            </List>
          )
        }
      </Shown>
    </Panel>
  );
}

const asked = ["text", "publisher", "product", "edition", "release"] as const;

/** Finds releases in one feed, or in all. */
export function Releases({ feed }: { feed?: string }) {
  const { may } = useSigned();
  const [want, setWant] = useState<Partial<Record<(typeof asked)[number], string>>>({});
  const releases = useQuery({
    queryKey: ["feeds", "releases", feed, want],
    queryFn: () => call(api.GET("/api/v1/releases", { params: { query: { feed, ...want } } })),
    placeholderData: keepPreviousData,
  });
  return (
    <Panel title="Releases">
      <HStack align="start" wrap="wrap" mb="3">
        {asked.map((a) => (
          <Field.Root key={a} flex="1" minW="9rem">
            <Field.Label>{a === "text" ? "Any of it" : a.charAt(0).toUpperCase() + a.slice(1)}</Field.Label>
            <Input
              size="sm"
              value={want[a] ?? ""}
              onChange={(e) => setWant({ ...want, [a]: e.target.value || undefined })}
            />
          </Field.Root>
        ))}
      </HStack>
      <Shown query={releases}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>No release in the feeds is one of these.</Empty>
          ) : (
            <>
              {items.length === 500 && (
                <Text mb="2">Only the first 500 are listed: say more of what is meant.</Text>
              )}
              <List
                label="Releases"
                head={["Is", "Serial", "For", "Supported until", "File", "With it", "Feed", "Base"]}
              >
                {items.map((o) => (
                  <Table.Row key={`${o.feed} ${o.product} ${o.serial}`}>
                    <Table.Cell>
                      {titled(o.labels) || o.product}
                      {o.codename && (
                        <Text color="fg.quiet" fontSize="sm">
                          {o.codename}
                        </Text>
                      )}
                    </Table.Cell>
                    <Table.Cell>{o.serial}</Table.Cell>
                    <Table.Cell>{o.architecture}</Table.Cell>
                    <Table.Cell whiteSpace="nowrap">{o.supported}</Table.Cell>
                    <Table.Cell whiteSpace="nowrap">
                      {[o.size && size(o.size), o.kind].filter(Boolean).join(", ")}
                    </Table.Cell>
                    <Table.Cell>{o.with.map((w) => w.kind || w.name).join(", ") || "nothing"}</Table.Cell>
                    <Table.Cell>{o.feed}</Table.Cell>
                    <Table.Cell>
                      {o.base ? (
                        <To to={`/bases/${o.base}`}>{o.base}</To>
                      ) : (
                        may("operator") && <BringRelease of={o} />
                      )}
                    </Table.Cell>
                  </Table.Row>
                ))}
              </List>
            </>
          )
        }
      </Shown>
    </Panel>
  );
}

/** Brings in one release as a base. */
function BringRelease({ of: o }: { of: Offer }) {
  const [name, setName] = useState("");
  const queries = useQueryClient();
  const go = useNavigate();
  return (
    <FormDialog
      label="Bring in"
      title={`Bring in ${titled(o.labels) || o.product} ${o.serial}`}
      done={`${name.trim()} is coming.`}
      submit={async () => {
        const base = await call(
          api.POST("/api/v1/bases", {
            body: {
              name: name.trim(),
              feed: o.feed,
              labels: { ...o.labels, product: o.product },
              serial: o.serial,
            },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["bases"] });
        go(`/bases/${base.name}`);
      }}
    >
      <Box>
        It is fetched from {o.address}
        {!!o.size && `, ${size(o.size)}`}. A build sheet that begins with the newest of this product brings it
        in by itself.
      </Box>
      <Field.Root required>
        <Field.Label>Name</Field.Label>
        <Input value={name} onChange={(e) => setName(e.target.value)} placeholder={`harbour-${o.serial}`} />
        <Field.HelperText>What build sheets call it</Field.HelperText>
      </Field.Root>
    </FormDialog>
  );
}

/** A base beside the newest release of its product. */
export function Compared({ base: b, newest: o }: { base: Base; newest: Offer }) {
  const other = useQuery({
    queryKey: ["bases", o.base],
    queryFn: () => call(api.GET("/api/v1/bases/{base}", { params: { path: { base: o.base ?? "" } } })),
    enabled: !!o.base,
  });
  const n = other.data;
  const rows: [string, string | undefined, string | undefined][] = [
    ["Is", titled(b.labels), titled(o.labels)],
    ["Serial", b.serial, o.serial],
    ["File", size(b.size), o.size ? size(o.size) : undefined],
    ["Supported until", undefined, o.supported],
    ["Base", b.name, n?.name],
    ["System", b.facts.edition, n?.facts.edition],
    ["Disk", size(b.facts.disk_size), n && size(n.facts.disk_size)],
    ["Started by", b.facts.firmware?.join(", "), n?.facts.firmware?.join(", ")],
    ["Inside", b.facts.agents?.join(", "), n?.facts.agents?.join(", ")],
  ];
  return (
    <Panel title={`${o.serial} is newer`}>
      <List label="Compared with the newest" head={["What", b.name, "The newest", "Compared"]}>
        {rows
          .filter(([, here, there]) => here || there)
          .map(([what, here, there]) => (
            <Table.Row key={what}>
              <Table.Cell fontWeight="500">{what}</Table.Cell>
              <Table.Cell>{here}</Table.Cell>
              <Table.Cell>
                {what === "Base" && there ? <To to={`/bases/${there}`}>{there}</To> : there}
              </Table.Cell>
              <Table.Cell color="fg.quiet">
                {what !== "Base" && here && there && here !== there && "differs"}
              </Table.Cell>
            </Table.Row>
          ))}
      </List>
      {!o.base && (
        <Box mt="3">
          It is not here yet: what is in it is seen when it is brought in.{" "}
          <To to={`/feeds/${o.feed}`}>Feed {o.feed}</To>
        </Box>
      )}
    </Panel>
  );
}
