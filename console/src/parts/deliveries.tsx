import { HStack, Progress, Table, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call, type Delivery, type SiteDeliveries, type Transfer } from "../api";
import { lasted, size, span } from "../format";
import { Empty, List, Panel, Shown, State, To } from "../ui";

type Of = { site?: string; image?: string };

/** The deliveries to a site, or of an image's versions, that are under way or wait. */
export function Deliveries({ of, quiet }: { of: Of; quiet?: boolean }) {
  const deliveries = useQuery({
    queryKey: ["deliveries", of],
    queryFn: () => call(api.GET("/api/v1/deliveries", { params: { query: { ...of, limit: 200 } } })),
    refetchInterval: 5_000, // whose turn it is changes without an event
  });
  const none = deliveries.data?.items.length === 0;
  if (quiet && (none || !deliveries.data)) return null;
  return (
    <Panel title="Deliveries" aside="under way, and those that wait">
      <Shown query={deliveries}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>Nothing is under way.</Empty>
          ) : (
            <List label="Deliveries" head={["Delivery", "To", "State", "Sent", "Left", "Why"]}>
              {items.map((d) => (
                <Row key={d.key} of={d} />
              ))}
            </List>
          )
        }
      </Shown>
    </Panel>
  );
}

function Row({ of: d }: { of: Delivery }) {
  return (
    <Table.Row verticalAlign="top">
      <Table.Cell whiteSpace="nowrap">
        {d.base ? (
          <To to={`/bases/${d.base}`}>base {d.base}</To>
        ) : (
          <>
            <To to={`/images/${d.image}/versions/${d.number}/copies`}>
              {d.image} {d.number}
            </To>{" "}
            copy {d.ordinal}
          </>
        )}
      </Table.Cell>
      <Table.Cell whiteSpace="nowrap">
        <To to={`/sites/${d.site}`}>{d.site}</To>
        {d.line && (
          <Text color="fg.quiet" fontSize="xs">
            over {d.line}
          </Text>
        )}
      </Table.Cell>
      <Table.Cell>
        <HStack>
          <State of={d.state === "under way" ? d.stage || d.state : d.state} />
          {d.state === "under way" && <Text fontSize="xs">{d.percent}%</Text>}
        </HStack>
      </Table.Cell>
      <Table.Cell minW="230px" whiteSpace="nowrap">
        {d.whole_bytes > 0 && (
          <Progress.Root
            value={d.lacking_bytes ? (100 * d.sent_bytes) / d.lacking_bytes : 100}
            size="xs"
            colorPalette="deep"
            aria-label={`Sent of ${d.base ?? `${d.image} ${d.number}`} to ${d.site}, copy ${d.ordinal ?? 1}`}
          >
            <Progress.Label fontSize="sm" fontVariantNumeric="tabular-nums">
              {sent(d)}
            </Progress.Label>
            <Progress.Track>
              <Progress.Range />
            </Progress.Track>
          </Progress.Root>
        )}
      </Table.Cell>
      <Table.Cell whiteSpace="nowrap" fontVariantNumeric="tabular-nums">
        {d.left_seconds ? (d.left_seconds < 3600 ? span : lasted)(d.left_seconds) : ""}
        {d.rate > 0 && (
          <Text color="fg.quiet" fontSize="xs">
            {size(d.rate)} a second
          </Text>
        )}
      </Table.Cell>
      <Table.Cell fontSize="sm">{d.why}</Table.Cell>
    </Table.Row>
  );
}

/** How much of what a site lacks has arrived, and how little of the whole that is. */
function sent(d: Delivery): string {
  if (d.lacking_bytes === 0)
    return d.stage === "mapping" || d.stage === "gathering"
      ? `of ${size(d.whole_bytes)}`
      : `nothing to send of ${size(d.whole_bytes)}`;
  const part = (100 * d.lacking_bytes) / d.whole_bytes;
  return `${size(d.sent_bytes) || "none"} of ${size(d.lacking_bytes)} (${part < 1 ? "under 1" : Math.round(part)}% of it)`;
}

/** How a copy came: "312 MiB of 24.1 GiB sent, 180 MiB over the line". */
export function came(t?: Transfer): string {
  if (!t?.whole_bytes) return "";
  if (t.lacking_bytes === 0) return `from the site itself, nothing of ${size(t.whole_bytes)} sent`;
  if (t.sent_bytes < t.lacking_bytes)
    return `${size(t.sent_bytes) || "none"} sent so far of ${size(t.lacking_bytes)} that lack, of a disk of ${size(t.whole_bytes)}`;
  return `${size(t.lacking_bytes)} of ${size(t.whole_bytes)} sent, ${size(t.line_bytes) || "none"} over the line`;
}

/** What may go to a site, by the hour, and over which line. */
export function allowedTo(d: SiteDeliveries): string {
  const rate = (r?: string) => (!r || r === "unlimited" ? "as much as goes" : `${r} a second`);
  const hours = (d.delivery_hours ?? []).map(
    (h) => `${h.from} to ${h.to} ${h.time_zone || "UTC"} ${rate(h.rate)}`,
  );
  return [rate(d.delivery_rate), ...hours].join("; ") + (d.line ? `, over line ${d.line}` : "");
}
