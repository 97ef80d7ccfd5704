import { Box, Button, Flex, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { createTar } from "nanotar";
import { useRef } from "react";
import { api, call, type SheetSource } from "../api";
import { size } from "../format";
import { Panel, Problem } from "../ui";

const pieceSize = 4 << 20; // bytes
/** What a browser can be asked to hold at once. */
const most = 512 << 20;

/** Sends what is in a file, as far as the service does not have it, and returns its digest. */
async function send(
  content: Uint8Array<ArrayBuffer>,
  folder: boolean,
  sent: (bytes: number) => void,
): Promise<string> {
  if (!crypto.subtle)
    throw new Error("Files can be sent only when the console is reached over TLS, or on this machine.");
  const digest = [...new Uint8Array(await crypto.subtle.digest("SHA-256", content))]
    .map((b) => b.toString(16).padStart(2, "0"))
    .join("");
  const path = { digest };
  let there = await call(
    api.PUT("/api/v1/sheet-files/{digest}", {
      params: { path, query: { folder } },
      body: { size: content.length },
    }),
  );
  while (!there.whole) {
    sent(there.have);
    there = await call(
      api.PUT("/api/v1/sheet-files/{digest}/piece", {
        params: { path, query: { folder, from: there.have } },
        body: content.slice(there.have, there.have + pieceSize) as never,
        bodySerializer: (bytes) => bytes as never,
        headers: { "Content-Type": "application/octet-stream" },
      }),
    );
  }
  return digest;
}

/** The archive that a folder travels as: what is chosen has paths that begin with the folder's name. */
async function packed(files: File[]): Promise<Uint8Array<ArrayBuffer>> {
  const entries = await Promise.all(
    files.map(async (f) => ({
      name: f.webkitRelativePath.split("/").slice(1).join("/"),
      data: new Uint8Array(await f.arrayBuffer()),
    })),
  );
  entries.sort((a, b) => (a.name < b.name ? -1 : 1));
  return new Uint8Array(createTar(entries, { attrs: { mode: "644", mtime: 0 } }));
}

/** The files that a sheet names beside it. */
export function SheetFiles(props: {
  names: SheetSource[];
  files: Record<string, string>;
  set?: (files: Record<string, string>) => void;
}) {
  if (props.names.length === 0) return null;
  return (
    <Panel title="Files beside it">
      {props.names.map((n) => (
        <OneFile key={n.path} of={n} {...props} />
      ))}
    </Panel>
  );
}

function OneFile({
  of,
  files,
  set,
}: {
  of: SheetSource;
  files: Record<string, string>;
  set?: (files: Record<string, string>) => void;
}) {
  const choose = useRef<HTMLInputElement>(null);
  const act = useMutation({
    mutationFn: async (chosen: File[]) => {
      const bytes = chosen.reduce((sum, f) => sum + f.size, 0);
      if (bytes > most)
        throw new Error(`${size(bytes)} are too much for a browser: send it with pane sheet save.`);
      const [first] = chosen;
      if (!first) return undefined;
      const content = of.folder ? await packed(chosen) : new Uint8Array(await first.arrayBuffer());
      return send(content, of.folder, () => undefined);
    },
    onSuccess: (digest) => digest && set?.({ ...files, [of.path]: digest }),
  });
  const digest = files[of.path];
  return (
    <Box mb="2">
      <Flex gap="3" align="center" wrap="wrap">
        <Text flex="1" fontFamily="mono" fontSize="sm">
          {of.path}
          {of.folder ? "/" : ""}
        </Text>
        <Text fontSize="sm" color={digest ? "fg.quiet" : "red.fg"}>
          {digest ? digest.slice(0, 12) : "not sent yet"}
        </Text>
        {set && (
          <>
            <input
              ref={choose}
              type="file"
              hidden
              aria-label={`What is ${of.path}`}
              {...(of.folder && { webkitdirectory: "" })}
              onChange={(e) => act.mutate([...(e.target.files ?? [])])}
            />
            <Button
              size="xs"
              variant="outline"
              loading={act.isPending}
              onClick={() => choose.current?.click()}
            >
              {digest ? "Send another" : of.folder ? "Choose a folder" : "Choose a file"}
            </Button>
          </>
        )}
      </Flex>
      {act.error && <Problem error={act.error} />}
    </Box>
  );
}
