import { Textarea } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, call } from "../api";
import { FormDialog } from "../ui";
import { FileChoice, Labelled } from "./fields";

/** Begins a build of a sheet that is pasted, or read from a file. */
export function StartBuild() {
  const [sheet, setSheet] = useState("");
  const [values, setValues] = useState("");
  const go = useNavigate();
  return (
    <FormDialog
      label="Start a build"
      title="Start a build"
      button={{ size: "sm", variant: "solid", colorPalette: "deep" }}
      submit={async () => {
        const b = await call(api.POST("/api/v1/builds", { body: { sheet, values: valuesOf(values) } }));
        void go(`/builds/${b.id}`);
      }}
    >
      <FileChoice label="A file with a build sheet" read={setSheet} />
      <Labelled
        label="Build sheet"
        required
        help="What is wrong with it is told with line and column, and then nothing is begun."
      >
        <Textarea
          value={sheet}
          onChange={(e) => setSheet(e.target.value)}
          rows={16}
          fontFamily="mono"
          fontSize="sm"
          spellCheck={false}
        />
      </Labelled>
      <Labelled
        label="Values of its parameters"
        help="A line each, such as queue = office. What is left out has the value of the site, or the default."
      >
        <Textarea
          value={values}
          onChange={(e) => setValues(e.target.value)}
          rows={2}
          fontFamily="mono"
          fontSize="sm"
          spellCheck={false}
        />
      </Labelled>
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
