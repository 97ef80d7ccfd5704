import { Box, Text } from "@chakra-ui/react";
import { Bar, BarChart, Cell, Tooltip, XAxis, YAxis } from "recharts";
import type { Build } from "../api";
import { count, duration, time } from "../format";

const minutes = (b: Build) =>
  Math.round((new Date(b.ended_at ?? "").getTime() - new Date(b.started_at).getTime()) / 60_000);

/** How long the builds took that have ended, the oldest first. The list below says the same in words. */
export default function BuildTimes({ of: builds }: { of: Build[] }) {
  const ended = builds.filter((b) => b.ended_at && b.state !== "cancelled").reverse();
  if (ended.length < 2) return null;
  const ready = ended.filter((b) => b.state === "ready").map(minutes);
  const middle = ready.toSorted((a, b) => a - b)[Math.floor(ready.length / 2)];
  return (
    <Box
      mb="3"
      role="img"
      aria-label={`How long the last ${count(ended.length, "build")} took, in minutes: ${ended
        .map((b) => `build ${b.id} ${minutes(b)}${b.state === "ready" ? "" : " until it failed"}`)
        .join(", ")}.`}
    >
      <Text fontSize="sm" color="fg.quiet" mb="1">
        Minutes from the start of a build until its version was ready
        {middle === undefined ? "" : `, mostly about ${middle}`}; those that failed are hollow.
      </Text>
      <BarChart
        responsive
        style={{ width: "100%", maxWidth: 760, height: 130, fontSize: 11 }}
        data={ended.map((b) => ({ ...b, minutes: minutes(b) }))}
        margin={{ top: 4, right: 0, bottom: 0, left: 0 }}
        accessibilityLayer={false}
      >
        <XAxis dataKey="id" tickLine={false} tick={{ fill: "var(--chakra-colors-fg-quiet)" }} />
        <YAxis
          width={40}
          tickLine={false}
          axisLine={false}
          tickCount={4}
          tick={{ fill: "var(--chakra-colors-fg-quiet)" }}
        />
        <Tooltip isAnimationActive={false} cursor={false} content={<About />} />
        <Bar dataKey="minutes" isAnimationActive={false} maxBarSize={28} radius={2}>
          {ended.map((b) => (
            <Cell
              key={b.id}
              fill={b.state === "ready" ? "var(--chakra-colors-deep-solid)" : "transparent"}
              stroke={b.state === "ready" ? "none" : "var(--chakra-colors-red-fg)"}
              strokeDasharray={b.state === "ready" ? undefined : "3 2"}
            />
          ))}
        </Bar>
      </BarChart>
    </Box>
  );
}

/** What is said of a build that one points at. */
function About({ payload }: { payload?: { payload: Build }[] }) {
  const b = payload?.[0]?.payload;
  if (!b) return null;
  return (
    <Box bg="bg.panel" borderWidth="1px" borderColor="line" rounded="sm" px="3" py="1.5" fontSize="sm">
      Build {b.id} of {b.image}, {time(b.started_at)}
      <br />
      {b.version ? `${b.version}, ${b.state}` : b.state} after {duration(b.started_at, b.ended_at)}
    </Box>
  );
}
