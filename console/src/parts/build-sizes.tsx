import { Table } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, type BuildSize, call } from "../api";
import { count, lasted, size } from "../format";
import { List, Panel } from "../ui";

/** What builds of an image took on machines of which size, and what follows from that. */
export function BuildSizes({ image }: { image: string }) {
  const sizes = useQuery({
    queryKey: ["builds", image, "sizes"],
    queryFn: () => call(api.GET("/api/v1/images/{image}/build-sizes", { params: { path: { image } } })),
  });
  const items = sizes.data?.items ?? [];
  if (items.length === 0) return null;
  return (
    <Panel title="What a build takes" aside="By the size of its machine">
      <List
        label="What a build takes"
        head={["Machine", "Builds", "Took", "Cost", "Cores used", "Memory used", "Advice"]}
      >
        {items.map((s) => (
          <Table.Row key={named(s)} verticalAlign="top">
            <Table.Cell>{named(s)}</Table.Cell>
            <Table.Cell>{s.builds}</Table.Cell>
            <Table.Cell whiteSpace="nowrap">{lasted(s.took_seconds)}</Table.Cell>
            <Table.Cell whiteSpace="nowrap">{[s.cost, s.currency].filter(Boolean).join(" ")}</Table.Cell>
            <Table.Cell whiteSpace="nowrap">
              {s.has_cores ? `${(s.used_cores ?? 0).toFixed(1)} of ${s.has_cores}` : ""}
            </Table.Cell>
            <Table.Cell whiteSpace="nowrap">
              {s.has_memory_bytes ? `${size(s.used_memory_bytes ?? 0)} of ${size(s.has_memory_bytes)}` : ""}
            </Table.Cell>
            <Table.Cell>{s.advice.join("; ")}</Table.Cell>
          </Table.Row>
        ))}
      </List>
    </Panel>
  );
}

const named = (s: BuildSize) =>
  [s.machine_class, s.cores && count(s.cores, "core"), s.memory_bytes && size(s.memory_bytes)]
    .filter(Boolean)
    .join(", ");
