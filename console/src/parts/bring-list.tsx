import { Text } from "@chakra-ui/react";
import { useState } from "react";
import { api, call, type Version } from "../api";
import { useSigned } from "../session";
import { FormDialog } from "../ui";

/** Gives a version that has no software list one that was made elsewhere. */
export function BringList({ version: { image, number } }: { version: Version }) {
  const { may } = useSigned();
  const [file, setFile] = useState<File>();
  if (!may("operator")) return null;
  return (
    <FormDialog
      label="Bring a list"
      title={`Bring a software list for ${number}`}
      done="The list is kept."
      onOpen={() => setFile(undefined)}
      submit={async () => {
        if (!file) throw new Error("Choose a file first.");
        await call(
          api.PUT("/api/v1/images/{image}/versions/{number}/software/document", {
            params: { path: { image, number } },
            body: (await file.text()) as never,
            bodySerializer: (b) => b as unknown as string,
            headers: { "Content-Type": "application/vnd.cyclonedx+json" },
          }),
        );
      }}
    >
      <Text>A list that was made elsewhere, as CycloneDX 1.2 to 1.6 in JSON. It stays with the version.</Text>
      <input type="file" aria-label="File" accept=".json" onChange={(e) => setFile(e.target.files?.[0])} />
    </FormDialog>
  );
}
