import { Box, Button, Text } from "@chakra-ui/react";
import { ChevronDown, ChevronRight } from "lucide-react";
import { memo, useMemo, useState } from "react";
import type { RolloverHost } from "../api";
import { count, counts, shortNumber } from "../format";
import { byBatch, lookOfPhase } from "../panes";
import { type PaneOf, PaneWindow } from "./pane-window";

function paneOf(h: RolloverHost): PaneOf {
  const look = lookOfPhase(h.phase);
  const people = count(h.sessions, "person", "people");
  return {
    name: h.host,
    look,
    line: h.phase === "rebuilding" ? `${h.progress}%` : h.sessions ? people : shortNumber(h.version),
    hint: `${h.host}, ${look.word}${h.why ? `: ${h.why}` : ""}, runs ${h.version || "nothing"}`,
  };
}

const made = new WeakMap<RolloverHost, PaneOf>();

/** Makes panes of hosts, and the same one again of a host that is as it was. */
function panesOf(hosts: RolloverHost[]): PaneOf[] {
  return hosts.map((h) => {
    const pane = made.get(h) ?? paneOf(h);
    made.set(h, pane);
    return pane;
  });
}

function howMany(hosts: RolloverHost[]): string {
  const by: Record<string, number> = {};
  for (const h of hosts) by[h.phase] = (by[h.phase] ?? 0) + 1;
  return `${count(hosts.length, "host")}: ${counts(by)}`;
}

type GroupProps = {
  title: string;
  label: string;
  hosts: RolloverHost[];
  folded?: boolean;
  onOpen: (host: string) => void;
};

/** Hosts with their panes, or folded to a line. */
const Group = memo(
  function Group({ title, label, hosts, folded, onOpen }: GroupProps) {
    const [open, setOpen] = useState(!folded);
    const text = `${title} · ${howMany(hosts)}`;
    return (
      <Box mb={open ? "3" : "1"}>
        {folded ? (
          <Button
            variant="ghost"
            size="xs"
            px="1"
            fontWeight="400"
            color="fg.quiet"
            aria-expanded={open}
            onClick={() => setOpen(!open)}
          >
            {open ? <ChevronDown aria-hidden /> : <ChevronRight aria-hidden />} {text}
          </Button>
        ) : (
          <Text fontSize="sm" mb="1" color="fg.quiet">
            {text}
          </Text>
        )}
        {open && <PaneWindow label={label} panes={panesOf(hosts)} onOpen={onOpen} />}
      </Box>
    );
  },
  (a, b) =>
    a.title === b.title &&
    a.folded === b.folded &&
    a.hosts.length === b.hosts.length &&
    a.hosts.every((h, i) => h === b.hosts[i]),
);

/** The hosts of a rollover as panes: what is in flight, what is still to come, and what is over, folded. */
export function Batches({ hosts, onOpen }: { hosts: RolloverHost[]; onOpen: (host: string) => void }) {
  const { flying, queued, finished } = useMemo(() => byBatch(hosts), [hosts]);
  return (
    <>
      {flying.map((b) => (
        <Group
          key={b.batch}
          title={`Batch ${b.batch}`}
          label={`Batch ${b.batch}`}
          hosts={b.hosts}
          onOpen={onOpen}
        />
      ))}
      {queued.length > 0 && (
        <Group key="queued" title="Not taken yet" label="Hosts in no batch" hosts={queued} onOpen={onOpen} />
      )}
      {finished.map((b) => (
        <Group
          key={`finished ${b.batch}`}
          title={`Batch ${b.batch}`}
          label={`Batch ${b.batch}`}
          hosts={b.hosts}
          folded
          onOpen={onOpen}
        />
      ))}
    </>
  );
}
