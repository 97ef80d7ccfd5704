import { Box, Button, Flex, HStack, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { useDebounce } from "use-debounce";
import { api, call, Refusal, type SheetChecked, type WholeSheet } from "../api";
import { time } from "../format";
import { BuildSheet } from "../parts/build-sheet";
import { FollowRepository, InRepository } from "../parts/repository";
import { Schedules } from "../parts/schedules";
import { SheetFiles } from "../parts/sheet-files";
import { SheetForm } from "../parts/sheet-form";
import { TryStep } from "../parts/try-step";
import { useSigned } from "../session";
import { Act, Empty, Loading, Page, Panel, Problem, Shown, toaster } from "../ui";

const SheetEditor = lazy(() => import("../parts/sheet-editor"));

/** One build sheet, which is changed as a form or as text. */
export function SheetPage() {
  const { sheet: name = "" } = useParams();
  const query = useQuery({
    queryKey: ["sheets", name],
    queryFn: () => call(api.GET("/api/v1/sheets/{sheet}", { params: { path: { sheet: name } } })),
  });
  return query.data ? (
    // What is written here stays while somebody else saves: it begins with what there was.
    <OneSheet key={name} now={query.data} />
  ) : (
    <Page title={`Sheet ${name}`}>
      <Shown query={query}>{() => null}</Shown>
    </Page>
  );
}

function OneSheet({ now }: { now: WholeSheet }) {
  const { may } = useSigned();
  const queries = useQueryClient();
  const go = useNavigate();
  const [began, setBegan] = useState(now); // what was read, or saved last
  const [text, setText] = useState(now.text);
  const [files, setFiles] = useState(now.files);
  const [address, setAddress] = useSearchParams();
  const way = address.get("as") === "text" ? "text" : "form";
  const setWay = (to: "form" | "text") => setAddress(to === "text" ? { as: to } : {}, { replace: true });
  const [goTo, setGoTo] = useState<{ line: number }>();
  const changed = text !== began.text || JSON.stringify(files) !== JSON.stringify(began.files);
  const overtaken = now.revision !== began.revision;
  const [settled] = useDebounce(text, 300);
  const checked = useQuery({
    queryKey: ["sheet-check", settled, files],
    queryFn: () => call(api.POST("/api/v1/sheets/check", { body: { text: settled, files } })),
    placeholderData: (before) => before ?? now,
    staleTime: 60_000,
  });
  const save = useMutation({
    mutationFn: (revision: number) =>
      call(
        api.PUT("/api/v1/sheets/{sheet}", {
          params: { path: { sheet: now.name }, header: { "If-Match": `"${revision}"` } },
          body: { text, files },
        }),
      ),
    onSuccess: (saved) => {
      setBegan(saved);
      queries.setQueryData(["sheets", now.name], saved);
      toaster.create({ title: `Saved, as revision ${saved.revision}.`, type: "success" });
    },
    onError: (error) => {
      if (error instanceof Refusal && error.type === "changed-since-read")
        void queries.invalidateQueries({ queryKey: ["sheets", now.name] });
    },
  });
  useEffect(() => {
    // Nobody has changed anything here: what somebody else has saved is shown.
    if (overtaken && !changed) {
      setBegan(now);
      setText(now.text);
      setFiles(now.files);
    }
  }, [overtaken, changed, now]);
  useEffect(() => {
    if (!changed) return;
    const stay = (e: BeforeUnloadEvent) => e.preventDefault();
    addEventListener("beforeunload", stay);
    return () => removeEventListener("beforeunload", stay);
  }, [changed]);
  const c = checked.data ?? now;
  const mine = may("operator") && !now.repository;
  return (
    <Page
      title={`Sheet ${now.name}`}
      lead={`Revision ${began.revision}, changed ${time(began.changed_at)} by ${began.changed_by}${changed ? "; what you changed is not saved yet" : ""}`}
      actions={
        may("operator") && (
          <>
            {mine && <FollowRepository of={now} />}
            {mine && (
              <Button
                size="sm"
                colorPalette="deep"
                disabled={!changed}
                loading={save.isPending}
                onClick={() => save.mutate(began.revision)}
              >
                Save
              </Button>
            )}
            <BuildSheet of={began} unsaved={changed} />
            <Act
              label="Delete"
              title={`Delete sheet ${now.name}`}
              danger
              button={{ size: "sm" }}
              run={async () => {
                await call(
                  api.DELETE("/api/v1/sheets/{sheet}", {
                    params: { path: { sheet: now.name }, header: { "If-Match": `"${began.revision}"` } },
                  }),
                );
                void go("/sheets");
              }}
            >
              {now.repository ? "It stays in its repository." : "Nobody else keeps its text."} Builds of it
              stay.
            </Act>
          </>
        )
      }
    >
      <InRepository of={now} />
      {save.error && !overtaken && <Problem error={save.error} />}
      {overtaken && changed && (
        <Overtaken
          now={now}
          take={() => {
            setBegan(now);
            setText(now.text);
            setFiles(now.files);
            save.reset();
          }}
          over={() => save.mutate(now.revision)}
        />
      )}
      {mine && (
        <HStack mb="3" role="group" aria-label="How the sheet is shown">
          {(["form", "text"] as const).map((w) => (
            <Button
              key={w}
              size="sm"
              variant={way === w ? "solid" : "outline"}
              colorPalette={way === w ? "deep" : undefined}
              aria-pressed={way === w}
              onClick={() => setWay(w)}
            >
              {w === "form" ? "As a form" : "As text"}
            </Button>
          ))}
        </HStack>
      )}
      <Flex gap="4" align="start" direction={{ base: "column", xl: "row" }}>
        <Box flex="3" minW="0" w="full">
          {way === "text" || !mine ? (
            <Panel>
              <Box h={{ base: "28rem", xl: "calc(100vh - 15rem)" }} pt="1">
                <Suspense fallback={<Loading />}>
                  <SheetEditor text={text} set={mine ? setText : undefined} wrong={c.wrong} goTo={goTo} />
                </Suspense>
              </Box>
            </Panel>
          ) : (
            <SheetForm
              text={text}
              set={setText}
              tryStep={(step) => <TryStep step={step} text={text} files={files} wants={c.wants} />}
            />
          )}
        </Box>
        <Box flex="2" minW="0" w="full">
          <Said
            of={c}
            goTo={(line) => {
              setWay("text");
              setGoTo({ line });
            }}
          />
          <SheetFiles names={c.names} files={files} set={mine ? setFiles : undefined} />
        </Box>
      </Flex>
      <Schedules sheet={now.name} />
    </Page>
  );
}

/** Somebody else has saved the sheet meanwhile: neither text is lost. */
function Overtaken({ now, take, over }: { now: WholeSheet; take: () => void; over: () => void }) {
  return (
    <Panel title={`${now.changed_by} has changed this sheet meanwhile`}>
      <Text mb="2">
        What you wrote is still here. This is what {now.changed_by} saved on {time(now.changed_at)}, as
        revision {now.revision}:
      </Text>
      <Box as="pre" fontFamily="mono" fontSize="sm" maxH="16rem" overflow="auto" mb="3" tabIndex={0}>
        {now.text}
      </Box>
      <HStack>
        <Button size="sm" variant="outline" onClick={take}>
          Take theirs, and lose mine
        </Button>
        <Button size="sm" variant="outline" colorPalette="red" onClick={over}>
          Save mine over it
        </Button>
      </HStack>
    </Panel>
  );
}

/** What is wrong with a sheet, or what a build of it does. */
function Said({ of, goTo }: { of: SheetChecked; goTo: (line: number) => void }) {
  const more = [...of.unset, ...of.missing];
  return (
    <>
      {of.wrong.length > 0 && (
        <Panel
          title="What is wrong"
          aside={`in ${of.wrong.length === 1 ? "one place" : `${of.wrong.length} places`}`}
        >
          <Box as="ul" listStyleType="none">
            {of.wrong.map((w) => (
              <Box as="li" key={`${w.line}:${w.column} ${w.text}`} mb="1">
                <Button size="xs" variant="outline" mr="2" onClick={() => goTo(w.line)}>
                  Line {w.line}
                </Button>
                {w.text}
              </Box>
            ))}
          </Box>
        </Panel>
      )}
      {more.length > 0 && (
        <Panel title="What is missing still">
          <Box as="ul" pl="4">
            {more.map((m) => (
              <Box as="li" key={m}>
                {m}
              </Box>
            ))}
          </Box>
        </Panel>
      )}
      <Panel title="What a build of it does">
        {of.explain.length === 0 ? (
          <Empty>That is said once nothing is wrong with it.</Empty>
        ) : (
          of.explain.map((line) => (
            <Text key={line} mb="1.5" overflowWrap="anywhere">
              {line}
            </Text>
          ))
        )}
      </Panel>
    </>
  );
}
