import { Input, NativeSelect } from "@chakra-ui/react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, call, type SheetParameter, type WholeSheet } from "../api";
import { FormDialog } from "../ui";
import { Labelled } from "./fields";
import { Hours } from "./held-build";

/** Begins a build of a sheet as it was saved. */
export function BuildSheet({ of, unsaved }: { of: WholeSheet; unsaved: boolean }) {
  const [values, setValues] = useState<Record<string, string>>({});
  const [hours, setHours] = useState("0");
  const go = useNavigate();
  return (
    <FormDialog
      label="Start a build"
      title={`Start a build of ${of.name}`}
      button={{
        size: "sm",
        variant: "solid",
        colorPalette: "deep",
        disabled: unsaved || of.wrong.length > 0,
      }}
      onOpen={() => setValues({})}
      submit={async () => {
        const b = await call(
          api.POST("/api/v1/sheets/{sheet}/builds", {
            params: { path: { sheet: of.name } },
            body: { values, hold_seconds: Math.round(Number(hours) * 3600) },
          }),
        );
        void go(`/builds/${b.id}`);
      }}
    >
      <Values wants={of.wants} values={values} set={setValues} />
      <Hours label="If it fails, hold its machine for so many hours" value={hours} set={setHours} />
    </FormDialog>
  );
}

/** Fields for the parameters of a sheet. What is left empty has the value that the sheet gives it. */
export function Values(props: {
  wants: SheetParameter[];
  values: Record<string, string>;
  set: (values: Record<string, string>) => void;
}) {
  const { wants, values, set } = props;
  const give = (name: string, value: string) => {
    const { [name]: _, ...others } = values;
    set(value === "" ? others : { ...others, [name]: value });
  };
  return wants.map((w) => {
    const choice = w.allowed?.length ? w.allowed : w.type === "switch" ? ["true", "false"] : undefined;
    return (
      <Labelled
        key={w.name}
        label={w.about ? `${w.name}: ${w.about}` : w.name}
        required={!w.given}
        help={w.given ? `${w.value} if left out` : undefined}
      >
        {choice ? (
          <NativeSelect.Root>
            <NativeSelect.Field value={values[w.name] ?? ""} onChange={(e) => give(w.name, e.target.value)}>
              <option value="" />
              {choice.map((c) => (
                <option key={c} value={c}>
                  {c}
                </option>
              ))}
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        ) : (
          <Input
            value={values[w.name] ?? ""}
            type={w.type === "number" ? "number" : "text"}
            onChange={(e) => give(w.name, e.target.value)}
          />
        )}
      </Labelled>
    );
  });
}
