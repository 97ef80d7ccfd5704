import { Box, Flex, HStack, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call, type Image } from "../api";
import { count, day } from "../format";
import { Empty, Page, Panel, Shown, To } from "../ui";

/** An image's tracks as a line of stations, from pilot to live. */
export function Tracks({ image }: { image: Image }) {
  return (
    <HStack gap="0" wrap="wrap" align="stretch">
      {image.tracks.map((t, i) => (
        <HStack key={t.name} gap="0" align="center">
          {i > 0 && <Box w="24px" h="2px" bg="fg.quiet" aria-hidden />}
          <Box
            borderWidth="1px"
            borderColor={t.name === "live" ? "deep.solid" : "line"}
            borderLeftWidth="4px"
            rounded="sm"
            px="3"
            py="1"
            minW="120px"
          >
            <Text color="fg.quiet" fontSize="xs">
              {t.name}
            </Text>
            <Text fontWeight="600" fontVariantNumeric="tabular-nums">
              {t.version || "nothing"}
            </Text>
            <Text color="fg.quiet" fontSize="xs">
              {t.since ? `since ${day(t.since)}` : "\u00a0"}
            </Text>
          </Box>
        </HStack>
      ))}
      <HStack gap="0" align="center">
        <Box w="24px" h="0" borderTopWidth="2px" borderStyle="dotted" borderColor="fg.quiet" aria-hidden />
        <Box
          borderWidth="1px"
          borderStyle="dashed"
          borderColor="line"
          rounded="sm"
          px="3"
          py="1"
          minW="120px"
        >
          <Text color="fg.quiet" fontSize="xs">
            fallback
          </Text>
          <Text fontWeight="600" fontVariantNumeric="tabular-nums">
            {image.fallback || "none"}
          </Text>
          <Text color="fg.quiet" fontSize="xs">
            {image.fallback ? "what live goes back to" : "\u00a0"}
          </Text>
        </Box>
      </HStack>
    </HStack>
  );
}

export function ImagesPage() {
  const images = useQuery({ queryKey: ["images"], queryFn: () => call(api.GET("/api/v1/images")) });
  return (
    <Page title="Images" lead="The golden images, and the versions that their tracks name.">
      <Shown query={images}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>There is no image yet. Load an estate file: pane estate load FILE.</Empty>
          ) : (
            items.map((i) => (
              <Panel key={i.name}>
                <Flex justify="space-between" gap="4" wrap="wrap" align="center">
                  <Box minW="220px">
                    <To to={`/images/${i.name}`}>{i.name}</To>
                    <Text>{i.title}</Text>
                    <Text color="fg.quiet" fontSize="sm">
                      {i.machine_class} machines · {count(i.versions, "version")}
                    </Text>
                  </Box>
                  <Tracks image={i} />
                </Flex>
              </Panel>
            ))
          )
        }
      </Shown>
    </Page>
  );
}
