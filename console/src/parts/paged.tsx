import { Box, Button, Flex, Input, NativeSelect } from "@chakra-ui/react";
import { keepPreviousData, useInfiniteQuery, useQuery } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { useDebounce } from "use-debounce";
import { api, call } from "../api";
import { Empty, Panel, Shown } from "../ui";

type PageOf<T> = { items: T[]; next: string };

/** A list that is read page by page: the newest or first page, and more where somebody asks for it. */
export function usePages<P extends PageOf<unknown>>(
  key: readonly unknown[],
  read: (cursor: string | undefined) => Promise<P>,
  refetchInterval?: number,
) {
  return useInfiniteQuery({
    queryKey: key,
    initialPageParam: "",
    queryFn: ({ pageParam }) => read(pageParam || undefined),
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: keepPreviousData,
    refetchInterval,
  });
}

/** Shows the pages that were read, and the button that reads the next one. */
export function Pages<P extends PageOf<unknown>>(props: {
  query: ReturnType<typeof usePages<P>>;
  empty: ReactNode;
  more: string;
  children: (items: P["items"]) => ReactNode;
}) {
  const { query } = props;
  return (
    <Panel>
      <Shown query={query}>
        {({ pages }) => {
          const items = pages.flatMap((p) => p.items);
          return items.length === 0 ? (
            <Empty>{props.empty}</Empty>
          ) : (
            <Box opacity={query.isPlaceholderData ? 0.6 : 1}>{props.children(items)}</Box>
          );
        }}
      </Shown>
      {query.hasNextPage && (
        <Button
          size="xs"
          variant="outline"
          mt="2"
          onClick={() => void query.fetchNextPage()}
          loading={query.isFetchingNextPage}
        >
          {props.more}
        </Button>
      )}
    </Panel>
  );
}

/** What a list is narrowed to, in the page's address so that it can be linked to. */
export function useNarrowing<K extends string>(names: readonly K[]) {
  const [search, setSearch] = useSearchParams();
  const values = Object.fromEntries(names.map((n) => [n, search.get(n) ?? ""])) as Record<K, string>;
  const set = (name: K, value: string) =>
    setSearch(
      (before) => {
        const next = new URLSearchParams(before);
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  return [values, set] as const;
}

/** A field that looks for something when the typing rests. */
export function Find(props: { label: string; value: string; onFind: (text: string) => void }) {
  const [text, setText] = useState(props.value);
  const [rested] = useDebounce(text, 300);
  const { value, onFind } = props;
  // biome-ignore lint/correctness/useExhaustiveDependencies: it looks when the typing rests, and not when the page's address changes
  useEffect(() => {
    if (rested !== value) onFind(rested);
  }, [rested]);
  return (
    <Input
      size="sm"
      maxW="260px"
      type="search"
      aria-label={props.label}
      placeholder={props.label}
      value={text}
      onChange={(e) => setText(e.target.value)}
    />
  );
}

/** A choice among some, or all. */
export function Choose(props: {
  label: string;
  all: string;
  value: string;
  of: readonly string[];
  onChoose: (value: string) => void;
}) {
  return (
    <NativeSelect.Root size="sm" maxW="200px">
      <NativeSelect.Field
        aria-label={props.label}
        value={props.value}
        onChange={(e) => props.onChoose(e.target.value)}
      >
        <option value="">{props.all}</option>
        {props.of.map((o) => (
          <option key={o} value={o}>
            {o}
          </option>
        ))}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}

/** A choice among the pools, or all of them. */
export function ChoosePool(props: { value: string; onChoose: (pool: string) => void }) {
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => call(api.GET("/api/v1/pools")) });
  return <Choose label="Pool" all="All pools" of={(pools.data?.items ?? []).map((p) => p.name)} {...props} />;
}

export function Narrowing({ children }: { children: ReactNode }) {
  return (
    <Flex gap="3" mb="3" wrap="wrap" role="search">
      {children}
    </Flex>
  );
}
