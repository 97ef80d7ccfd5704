import { Alert, Box } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useDebounce } from "use-debounce";
import { api, call, type PreviewRequest } from "./api";
import { Reasons, Shown, Words } from "./ui";

const same = (a: PreviewRequest, b: PreviewRequest) => JSON.stringify(a) === JSON.stringify(b);

/** What an act would do as things stand, or why it would be refused, as the service computes it. */
export function Preview({ of, onSeen }: { of: PreviewRequest; onSeen?: (leaves: string) => void }) {
  // The service goes through the whole act for it: not with every key that is pressed.
  const [asked] = useDebounce(of, 300, { equalityFn: same });
  const preview = useQuery({
    queryKey: ["preview", asked],
    queryFn: () => call(api.POST("/api/v1/previews", { body: asked })),
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
  const late = preview.isPlaceholderData || !same(asked, of);
  const leaves = late ? undefined : preview.data?.leaves;
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
              <Alert.Title>
                As things stand this is refused: <Words>{p.refused}</Words>
              </Alert.Title>
              <Reasons of={p.reasons} />
            </Alert.Content>
          </Alert.Root>
        ) : (
          <Box
            as="ul"
            ps="4"
            listStyleType="disc"
            aria-label="What it will do"
            aria-busy={late}
            opacity={late ? 0.6 : 1}
          >
            {p.will.map((w) => (
              <li key={w}>
                <Words>{w}</Words>
              </li>
            ))}
          </Box>
        )
      }
    </Shown>
  );
}
