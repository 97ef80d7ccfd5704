import { Box, Button, Field, Flex, Input } from "@chakra-ui/react";
import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { api, call, type LogLine } from "../api";
import { count } from "../format";
import { Empty, Panel } from "../ui";

const atOnce = 1000; // lines that are asked for together
const mostFound = 5000;
const row = 20; // height of a line, in pixels
const readAgain = 2000; // ms, while the build goes on

/** What the steps of a build have written. Of a log of any length, only what one looks at is fetched and drawn. */
export function BuildLog({ build: id, over }: { build: number; over: boolean }) {
  const [find, setFind] = useState("");
  const wanted = useDeferredValue(find.trim());
  const refetchInterval = over ? (false as const) : readAgain;
  const ask = (query: { from?: number; find?: string; limit: number }) => () =>
    call(api.GET("/api/v1/builds/{id}/log", { params: { path: { id }, query } }));

  const end = useQuery({
    queryKey: ["build-log", id, "length", over],
    queryFn: ask({ limit: 1 }),
    placeholderData: keepPreviousData,
    refetchInterval,
  });
  const found = useQuery({
    queryKey: ["build-log", id, "found", wanted, over],
    queryFn: ask({ find: wanted, limit: mostFound }),
    enabled: wanted !== "",
    placeholderData: keepPreviousData,
    refetchInterval,
  });
  const total = end.data?.total ?? 0;
  const lines = wanted ? found.data?.lines : undefined;
  const length = lines ? lines.length : total;

  const within = useRef<HTMLDivElement>(null);
  const drawn = useVirtualizer({
    count: length,
    getScrollElement: () => within.current,
    estimateSize: () => row,
    overscan: 20,
  });
  const visible = drawn.getVirtualItems();
  const pages = [...new Set(visible.map((v) => Math.floor(v.index / atOnce)))];
  const fetched = useQueries({
    queries: (lines ? [] : pages).map((page) => ({
      // A page that is not full yet is another one when there is more of it.
      queryKey: ["build-log", id, page, Math.min(atOnce, total - page * atOnce)],
      queryFn: ask({ from: page * atOnce, limit: atOnce }),
      staleTime: Number.POSITIVE_INFINITY,
      placeholderData: keepPreviousData,
    })),
  });
  const line = (index: number): LogLine | undefined => {
    if (lines) return lines[index];
    const page = fetched[pages.indexOf(Math.floor(index / atOnce))];
    const l = page?.data?.lines[index % atOnce];
    return l?.number === index ? l : undefined; // until it comes, its place may hold another page
  };

  // What is added is followed, unless one has scrolled away from the end.
  const atEnd = useRef(true);
  useEffect(() => {
    if (atEnd.current && length > 0 && !over) drawn.scrollToIndex(length - 1);
  }, [drawn, length, over]);

  const all = `${count(total, "line")}${over ? "" : " so far"}`;
  return (
    <Panel
      title="Log"
      aside={lines ? `${found.data?.lines.length === mostFound ? "the first " : ""}${length} of ${all}` : all}
    >
      {total === 0 ? (
        <Empty>
          {end.data?.gone
            ? `It is gone: ${end.data.gone}.`
            : over
              ? "Its steps wrote nothing."
              : "Nothing was written yet."}
        </Empty>
      ) : (
        <>
          <Flex gap="3" mb="3" align="end" wrap="wrap">
            <Field.Root maxW="20rem">
              <Field.Label>Only lines with</Field.Label>
              <Input
                size="sm"
                type="search"
                value={find}
                maxLength={200}
                onChange={(e) => setFind(e.target.value)}
              />
            </Field.Root>
            <Button size="sm" variant="outline" onClick={() => drawn.scrollToIndex(0)}>
              To the beginning
            </Button>
            <Button size="sm" variant="outline" onClick={() => drawn.scrollToIndex(length - 1)}>
              To the end
            </Button>
            <Button asChild size="sm" variant="outline">
              <a href={`/api/v1/builds/${id}/log.txt`} download={`build-${id}.txt`}>
                Download
              </a>
            </Button>
          </Flex>
          <Box
            ref={within}
            role="region"
            aria-label="Log"
            tabIndex={0}
            h={`${Math.min(24, Math.max(4, length)) * row + 16}px`}
            overflow="auto"
            borderWidth="1px"
            borderColor="line"
            rounded="sm"
            fontFamily="mono"
            fontSize="xs"
            py="2"
            onScroll={(e) => {
              const { scrollTop, scrollHeight, clientHeight } = e.currentTarget;
              atEnd.current = scrollHeight - scrollTop - clientHeight < 2 * row;
            }}
          >
            <Box position="relative" h={`${drawn.getTotalSize()}px`}>
              {visible.map((v) => {
                const l = line(v.index);
                return (
                  <Flex
                    key={v.key}
                    position="absolute"
                    top={`${v.start}px`}
                    h={`${row}px`}
                    gap="4"
                    px="3"
                    whiteSpace="pre"
                  >
                    <Box color="fg.quiet">
                      {l ? `${l.at.slice(11, 19)}  ${String(l.step).padStart(2)}` : "…"}
                    </Box>
                    <Box>{l?.text}</Box>
                  </Flex>
                );
              })}
            </Box>
          </Box>
        </>
      )}
    </Panel>
  );
}
