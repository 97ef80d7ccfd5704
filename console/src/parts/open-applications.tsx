import { Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, type BuildMachine, call } from "../api";
import { time } from "../format";
import { useSigned } from "../session";
import { Empty, FormDialog, Panel } from "../ui";
import { FileChoice, Labelled, Lines } from "./fields";
import { TriedList } from "./tried";

/** The applications that were opened last on a machine, and a way to open them. */
export function OpenApplications({ of: m }: { of: BuildMachine }) {
  const { may } = useSigned();
  const at = { path: { site: m.site, machine: m.name } };
  const key = ["build-machines", m.site, m.name, "openings"];
  const opening = useQuery({
    queryKey: key,
    queryFn: () => call(api.GET("/api/v1/sites/{site}/build-machines/{machine}/openings", { params: at })),
    refetchInterval: (q) => (q.state.data?.state === "under way" ? 1000 : false),
  });
  const queries = useQueryClient();
  const [sheet, setSheet] = useState("");
  const o = opening.data;
  return (
    <Panel
      title="Applications"
      aside={
        may("operator") &&
        m.state === "running" && (
          <FormDialog
            label="Open them"
            title={`Open applications on ${m.name}`}
            submit={async () => {
              const begun = await call(
                api.POST("/api/v1/sites/{site}/build-machines/{machine}/openings", {
                  params: at,
                  body: { sheet: sheet || undefined },
                }),
              );
              queries.setQueryData(key, begun);
            }}
          >
            <Text color="fg.quiet">
              They are opened one after the other as a person who is made for it, and ended again.
            </Text>
            <FileChoice label="A file with a build sheet" read={setSheet} />
            <Labelled
              label="Build sheet whose applications are opened"
              help="Left out: those of the version that the machine is made from."
            >
              <Lines value={sheet} set={setSheet} rows={8} />
            </Labelled>
          </FormDialog>
        )
      }
    >
      {!o?.state ? (
        <Empty>None was opened yet.</Empty>
      ) : o.state === "done" ? (
        <>
          <Text mb="2">Opened {time(o.asked_at)}.</Text>
          <TriedList
            of={o.results}
            picture={(name) =>
              `/api/v1/sites/${m.site}/build-machines/${m.name}/openings/picture.png?application=${encodeURIComponent(name)}`
            }
          />
        </>
      ) : (
        <Text>
          {o.state === "failed"
            ? `They could not be opened: ${o.why}`
            : `They are being opened. ${o.why ?? ""}`}
        </Text>
      )}
    </Panel>
  );
}
