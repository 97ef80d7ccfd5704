import { useState } from "react";
import { useNavigate } from "react-router";
import { api, call } from "../api";
import { FormDialog } from "../ui";
import { FileChoice, Labelled, Lines } from "./fields";
import { Hours } from "./held-build";

/** Begins a build of a sheet that is pasted, or read from a file. */
export function StartBuild() {
  const [sheet, setSheet] = useState("");
  const [values, setValues] = useState("");
  const [hours, setHours] = useState("0");
  const go = useNavigate();
  return (
    <FormDialog
      label="Start a build"
      title="Start a build"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      submit={async () => {
        const b = await call(
          api.POST("/api/v1/builds", {
            body: { sheet, values: valuesOf(values), hold_seconds: Math.round(Number(hours) * 3600) },
          }),
        );
        void go(`/builds/${b.id}`);
      }}
    >
      <FileChoice label="A file with a build sheet" read={setSheet} />
      <Labelled
        label="Build sheet"
        required
        help="What is wrong with it is told with line and column, and then nothing is begun."
      >
        <Lines value={sheet} set={setSheet} rows={16} />
      </Labelled>
      <Labelled
        label="Values of its parameters"
        help="A line each, such as queue = office. What is left out has the value of the site, or the default."
      >
        <Lines value={values} set={setValues} rows={2} />
      </Labelled>
      <Hours label="If it fails, hold its machine for so many hours" value={hours} set={setHours} />
    </FormDialog>
  );
}

/** Reads lines of NAME = VALUE. A line without = is a name without a value, which the service tells of. */
export function valuesOf(text: string): Record<string, string> {
  const lines = text.split("\n").filter((l) => l.trim());
  return Object.fromEntries(
    lines.map((l) => {
      const at = l.indexOf("=");
      return at < 0 ? [l.trim(), ""] : [l.slice(0, at).trim(), l.slice(at + 1).trim()];
    }),
  );
}
