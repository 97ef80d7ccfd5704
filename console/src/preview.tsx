import { Alert, Box } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { api, call, type PreviewRequest } from "./api";
import { Shown } from "./ui";

/** What an act would do as things stand, or why it would be refused, as the service computes it. */
export function Preview({ of, onSeen }: { of: PreviewRequest; onSeen?: (leaves: string) => void }) {
  const preview = useQuery({
    queryKey: ["preview", of],
    queryFn: () => call(api.POST("/api/v1/previews", { body: of })),
    gcTime: 0,
  });
  const leaves = preview.data?.leaves;
  useEffect(() => {
    if (leaves !== undefined) onSeen?.(leaves);
  }, [leaves, onSeen]);
  return (
    <Shown query={preview}>
      {(p) =>
        p.refused ? (
          <Alert.Root status="warning" variant="surface">
            <Alert.Indicator />
            <Alert.Content>
              <Alert.Title>As things stand this is refused: {p.refused}</Alert.Title>
              {p.reasons.length > 0 && (
                <Alert.Description>
                  <Box as="ul" ps="4" listStyleType="disc">
                    {p.reasons.map((r) => (
                      <li key={r}>{r}</li>
                    ))}
                  </Box>
                </Alert.Description>
              )}
            </Alert.Content>
          </Alert.Root>
        ) : (
          <Box as="ul" ps="4" listStyleType="disc" aria-label="What it will do">
            {p.will.map((w) => (
              <li key={w}>{w}</li>
            ))}
          </Box>
        )
      }
    </Shown>
  );
}
