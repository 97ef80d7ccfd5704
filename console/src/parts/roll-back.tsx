import { Flex, Input, NativeSelect } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, call, type Image, type Options } from "../api";
import { Preview } from "../preview";
import { Act } from "../ui";
import { Check, Labelled } from "./fields";
import { useLeaves } from "./leaves";

/** Points live back: at the fallback, or at another version that was live. */
export function RollBack({ image }: { image: Image }) {
  const [leaves, seen] = useLeaves();
  const [chosen, setChosen] = useState("");
  const [keep, setKeep] = useState(false);
  const [trackOnly, setTrackOnly] = useState(false);
  const [options, setOptions] = useState<Options>({});
  const live = image.tracks[image.tracks.length - 1].version;
  const moves = useQuery({
    queryKey: ["moves", image.name],
    enabled: !!live,
    queryFn: () => call(api.GET("/api/v1/images/{image}/moves", { params: { path: { image: image.name } } })),
  });
  const defaults = useQuery({
    queryKey: ["defaults", "rollback"],
    queryFn: () => call(api.GET("/api/v1/rollovers/defaults", { params: { query: { act: "rollback" } } })),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const were = (moves.data?.items ?? []).filter((m) => m.track === "live").map((m) => m.version);
  const earlier = [...new Set(were)].filter((v) => v !== live && v !== image.fallback);
  if (!live || (!image.fallback && earlier.length === 0)) return null;
  const to = chosen || image.fallback || earlier[0];
  return (
    <Act
      label="Roll back"
      title={`Roll ${image.name} back`}
      reason="needed"
      danger
      done={`Live names ${to} again.`}
      button={{ size: "sm" }}
      run={(reason) =>
        call(
          api.POST("/api/v1/images/{image}/rollback", {
            params: { path: { image: image.name } },
            body: {
              reason,
              to,
              keep_usable: keep,
              track_only: trackOnly,
              leaves: leaves.current || live,
              options,
            },
          }),
        )
      }
    >
      <Labelled label="Back to">
        <NativeSelect.Root>
          <NativeSelect.Field value={to} onChange={(e) => setChosen(e.target.value)}>
            {image.fallback && <option value={image.fallback}>{image.fallback}, the fallback</option>}
            {earlier.map((v) => (
              <option key={v} value={v}>
                {v}, live before
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Labelled>
      <Check checked={keep} set={setKeep} label={`Do not bar ${live}: it may be used again`} />
      <Check checked={trackOnly} set={setTrackOnly} label="Move the track only, and roll no host over" />
      {!trackOnly && (
        <Flex gap="4" wrap="wrap">
          {(
            [
              ["batch", "Batch", "hosts, or a share such as 25%"],
              ["floor", "Floor", "seats that stay free, or a share"],
              ["grace", "Grace", "from the warning to the sign-off"],
            ] as const
          ).map(([name, label, help]) => (
            <Labelled key={name} label={label} help={help}>
              <Input
                value={options[name] ?? ""}
                placeholder={defaults.data?.[name]}
                onChange={(e) => setOptions({ ...options, [name]: e.target.value || undefined })}
              />
            </Labelled>
          ))}
          <Labelled label="Log-off policy">
            <NativeSelect.Root>
              <NativeSelect.Field
                value={options.log_off ?? defaults.data?.log_off ?? "warn"}
                onChange={(e) => setOptions({ ...options, log_off: e.target.value as Options["log_off"] })}
              >
                <option value="warn">warn, then end the session</option>
                <option value="wait">wait for people to leave</option>
              </NativeSelect.Field>
              <NativeSelect.Indicator />
            </NativeSelect.Root>
          </Labelled>
        </Flex>
      )}
      <Preview
        of={{
          act: "rollback",
          image: image.name,
          number: to,
          keep_usable: keep,
          track_only: trackOnly,
          options,
        }}
        onSeen={seen}
      />
    </Act>
  );
}
