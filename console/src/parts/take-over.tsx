import { Input } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { stringify } from "yaml";
import { api, type BuildMachine, call } from "../api";
import { FormDialog } from "../ui";
import { Labelled, Lines } from "./fields";

/** Makes the settings of a person on a machine those of new people, as a step that is tried. */
export function TakeOver({ of: m }: { of: BuildMachine }) {
  const [person, setPerson] = useState("");
  const [paths, setPaths] = useState("");
  const queries = useQueryClient();
  const wanted = paths
    .split("\n")
    .map((p) => p.trim())
    .filter(Boolean);
  const step = `Settings of ${person.trim()}`;
  return (
    <FormDialog
      label="Take over settings"
      title="Make somebody's settings those of new people"
      onOpen={() => {
        setPerson("");
        setPaths("");
      }}
      submit={async () => {
        const settings = { person: person.trim(), ...(wanted.length > 0 && { paths: wanted }) };
        await call(
          api.POST("/api/v1/sites/{site}/build-machines/{machine}/tries", {
            params: { path: { site: m.site, machine: m.name } },
            body: {
              step,
              sheet: stringify({
                image: "any",
                base: { track: "live" },
                machine: { site: m.site },
                steps: [{ name: step, settings }],
              }),
            },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["build-machines"] });
      }}
    >
      <Labelled label="Person" required help="An account of the machine">
        <Input value={person} onChange={(e) => setPerson(e.target.value)} />
      </Labelled>
      <Labelled
        label="Files and folders of their home"
        help="A line each, such as .config/fare-desk. Left out: all that begins with a dot. Keys, passwords, histories and caches stay where they are."
      >
        <Lines value={paths} set={setPaths} rows={3} />
      </Labelled>
    </FormDialog>
  );
}
