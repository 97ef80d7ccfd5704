import { Code, Field, HStack, Input, NativeSelect } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, call, type WholeSheet } from "../api";
import { time } from "../format";
import { useSigned } from "../session";
import { Act, Facts, FormDialog, Panel } from "../ui";

/** Where the service finds a secret, as it is written: a file of its folder, or env:NAME; none if it is "". */
function source(written?: string) {
  const name = written?.trim();
  if (!name) return undefined;
  return name.startsWith("env:") ? { environment: name.slice(4) } : { file: name };
}

/** What is asked for of a repository, by how its address begins: what is shown to it, and the secret of announcements. */
const secrets: Record<string, [key: string, label: string][]> = {
  "https:": [["password", "Secret with the password or token"]],
  "ssh:": [
    ["key", "Secret with the private key"],
    ["known_hosts", "Secret with the known hosts"],
  ],
};

/** Has a kept sheet follow one in a git repository: one that there is, or a new one. */
export function FollowRepository({ of: now }: { of?: WholeSheet }) {
  const r = now?.repository;
  const [name, setName] = useState(now?.name ?? "");
  const [ref, setRef] = useState<"branch" | "tag" | "commit">(
    r?.tag ? "tag" : r?.commit ? "commit" : "branch",
  );
  const [said, setSaid] = useState<Record<string, string>>({
    address: r?.address ?? "",
    ref: r?.branch || r?.tag || r?.commit || "",
    folder: r?.folder ?? "",
    file: r?.file ?? "",
  });
  const queries = useQueryClient();
  const go = useNavigate();
  const shown = secrets[said.address.trim().split("//")[0]] ?? [];
  const asked = (key: string) => (shown.some(([k]) => k === key) ? source(said[key]) : undefined);
  const text = (key: string, label: string, help?: string, needed = false) => (
    <Field.Root key={key} required={needed} flex="1" minW="14rem">
      <Field.Label>{label}</Field.Label>
      <Input value={said[key] ?? ""} onChange={(e) => setSaid({ ...said, [key]: e.target.value })} />
      {help && <Field.HelperText>{help}</Field.HelperText>}
    </Field.Root>
  );
  return (
    <FormDialog
      label={r ? "Change" : now ? "Follow a repository" : "From a repository"}
      title={now ? `Sheet ${now.name} in a repository` : "A sheet in a repository"}
      button={{ size: r ? "xs" : "sm" }}
      done={`${name.trim()} follows the repository.`}
      submit={async () => {
        const sheet = await call(
          api.PUT("/api/v1/sheets/{sheet}/repository", {
            params: { path: { sheet: name.trim() } },
            body: {
              address: said.address.trim(),
              [ref]: said.ref.trim() || undefined,
              folder: said.folder.trim() || undefined,
              file: said.file.trim(),
              user: (shown.length > 0 && said.user?.trim()) || undefined,
              password: asked("password"),
              key: asked("key"),
              known_hosts: asked("known_hosts"),
              announced: source(said.announced),
            },
          }),
        );
        await queries.invalidateQueries({ queryKey: ["sheets"] });
        go(`/sheets/${sheet.name}`);
      }}
    >
      {!now && (
        <Field.Root required>
          <Field.Label>Name</Field.Label>
          <Input value={name} onChange={(e) => setName(e.target.value)} placeholder="chart-desk" />
        </Field.Root>
      )}
      {text("address", "Repository", "https://HOST/PATH, ssh://USER@HOST/PATH or file:///PATH", true)}
      <HStack align="start" wrap="wrap">
        <Field.Root flex="1" minW="9rem">
          <Field.Label>It follows</Field.Label>
          <NativeSelect.Root>
            <NativeSelect.Field value={ref} onChange={(e) => setRef(e.target.value as typeof ref)}>
              <option value="branch">a branch</option>
              <option value="tag">a tag</option>
              <option value="commit">a commit</option>
            </NativeSelect.Field>
            <NativeSelect.Indicator />
          </NativeSelect.Root>
        </Field.Root>
        {text(
          "ref",
          { branch: "Branch", tag: "Tag", commit: "Commit" }[ref],
          ref === "branch" ? "The repository's own if it is left out" : undefined,
          ref !== "branch",
        )}
      </HStack>
      <HStack align="start" wrap="wrap">
        {text("folder", "Folder")}
        {text("file", "File", undefined, true)}
      </HStack>
      {shown.length > 0 && text("user", "User")}
      {[...shown, ["announced", "Secret that announcements of pushes are signed with"]].map(([key, label]) =>
        text(key, label, "A file of the service's folder of secrets, or env:NAME of its environment"),
      )}
    </FormDialog>
  );
}

/** What a sheet follows, and what was seen there. */
export function InRepository({ of: now }: { of: WholeSheet }) {
  const { may } = useSigned();
  const queries = useQueryClient();
  const r = now.repository;
  if (!r) return null;
  const path = { params: { path: { sheet: now.name } } };
  return (
    <Panel
      title={r.why ? "It cannot be taken from its repository" : "It lives in a repository"}
      aside={
        may("operator") && (
          <HStack>
            <Act
              label="Look now"
              title="Look at the repository now"
              done="The service looks at the repository."
              run={() => call(api.POST("/api/v1/sheets/{sheet}/look", path))}
            >
              The service looks at it in its time anyway: this is for who cannot wait for that.
            </Act>
            <FollowRepository of={now} />
            <Act
              label="Follow it no more"
              title={`Have ${now.name} follow its repository no more`}
              run={async () => {
                await call(api.DELETE("/api/v1/sheets/{sheet}/repository", path));
                await queries.invalidateQueries({ queryKey: ["sheets"] });
              }}
            >
              It stays as it was seen last, and is changed here from then on.
            </Act>
          </HStack>
        )
      }
    >
      <Facts
        of={[
          ["Why", r.why],
          ["Builds", r.gone && "none is started until that is mended"],
          ["Repository", r.address],
          [
            "Follows",
            [r.branch && `branch ${r.branch}`, r.tag && `tag ${r.tag}`, r.commit && `commit ${r.commit}`]
              .filter(Boolean)
              .join("") || "its default branch",
          ],
          ["File", [r.folder, r.file].filter(Boolean).join("/")],
          ["As in commit", (now.commit && <Code key="commit">{now.commit}</Code>) || "none was taken yet"],
          ["Looked at", r.seen_at ? time(r.seen_at) : "not yet"],
          ["Looked at every", `${Math.round(r.every_seconds / 60)} min`],
          ["Shows", r.shows],
          ["Pushes", r.announced && <Code>{`POST /api/v1/announcements/${now.name}`}</Code>],
        ]}
      />
    </Panel>
  );
}
