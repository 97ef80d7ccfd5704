import { Box, HStack, Text } from "@chakra-ui/react";
import type { Image } from "../api";
import { day } from "../format";

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
