import { Box, Button, Flex, NativeSelect, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, type SheetParameter } from "../api";
import { Problem, State, To } from "../ui";
import { Values } from "./build-sheet";
import { Labelled } from "./fields";

/** Has one step of a sheet done on a build machine that runs, and shows what it came to. */
export function TryStep(props: {
  step: string;
  text: string;
  files: Record<string, string>;
  wants: SheetParameter[];
}) {
  const { step, text, files, wants } = props;
  const [chosen, setChosen] = useState("");
  const [tried, setTried] = useState<string>();
  const [values, setValues] = useState<Record<string, string>>({});
  const queries = useQueryClient();
  const machines = useQuery({
    queryKey: ["build-machines", {}],
    queryFn: () => call(api.GET("/api/v1/build-machines", { params: { query: {} } })),
  });
  const fit = (machines.data?.items ?? []).filter((m) => !m.build && m.state === "running");
  const on = tried ?? chosen;
  const [site = "", machine = ""] = on.split("/");
  const tries = useQuery({
    queryKey: ["build-machines", site, machine, "tries"],
    queryFn: () =>
      call(
        api.GET("/api/v1/sites/{site}/build-machines/{machine}/tries", {
          params: { path: { site, machine } },
        }),
      ),
    enabled: tried !== undefined,
    refetchInterval: (q) => (q.state.data?.items.at(-1)?.state === "under way" ? 1000 : false),
  });
  const last = tries.data?.items.filter((t) => t.step === step).at(-1);
  const act = useMutation({
    mutationFn: () =>
      call(
        api.POST("/api/v1/sites/{site}/build-machines/{machine}/tries", {
          params: { path: { site, machine } },
          body: { sheet: text, step, files, values },
        }),
      ),
    onSuccess: async () => {
      setTried(on);
      await queries.invalidateQueries({ queryKey: ["build-machines"] });
    },
  });
  return (
    <Box borderWidth="1px" borderColor="line" rounded="sm" p="3">
      <Flex gap="3" align="end" wrap="wrap">
        <Labelled label="Try this step on" help="A build machine that runs and is no build's">
          <NativeSelect.Root>
            <NativeSelect.Field
              value={on}
              onChange={(e) => {
                setTried(undefined);
                setChosen(e.target.value);
              }}
            >
              <option value="">{fit.length === 0 && !on ? "There is none" : "Choose one"}</option>
              {on && !fit.some((m) => `${m.site}/${m.name}` === on) && <option value={on}>{on}</option>}
              {fit.map((m) => (
                <option key={m.id} value={`${m.site}/${m.name}`}>
                  {m.name} at {m.site}
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Labelled>
        <Values wants={wants} values={values} set={setValues} />
        <Button
          size="sm"
          variant="outline"
          disabled={!on}
          loading={act.isPending}
          onClick={() => act.mutate()}
        >
          Try
        </Button>
      </Flex>
      {act.error && <Problem error={act.error} />}
      {last && tried && (
        <Box mt="2">
          {last.state && <State of={last.state} />}{" "}
          <To to={`/build-machines/${site}/${machine}`}>{machine}</To> {last.why}
          {last.output && (
            <Box as="pre" fontFamily="mono" fontSize="sm" maxH="12rem" overflow="auto" tabIndex={0}>
              {last.output}
            </Box>
          )}
          {last.state === "under way" && (
            <Text fontSize="sm" color="fg.quiet">
              It is being done.
            </Text>
          )}
        </Box>
      )}
    </Box>
  );
}
