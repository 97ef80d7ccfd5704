import { Box, Flex, Text } from "@chakra-ui/react";
import type { ReactNode } from "react";
import type { Look, Pattern } from "./panes";

const hatch = "var(--chakra-colors-pane-hatch)";

const patterns: Record<Pattern, object> = {
  plain: {},
  slant: { backgroundImage: `repeating-linear-gradient(-45deg, ${hatch} 0 2px, transparent 2px 9px)` },
  level: { backgroundImage: `repeating-linear-gradient(0deg, ${hatch} 0 2px, transparent 2px 7px)` },
  hollow: { backgroundColor: "transparent" },
  dashed: { borderStyle: "dashed" },
  cross: {
    backgroundImage: `repeating-linear-gradient(45deg, ${hatch} 0 2px, transparent 2px 8px), repeating-linear-gradient(-45deg, ${hatch} 0 2px, transparent 2px 8px)`,
    borderWidth: "2px",
  },
  dots: { backgroundImage: `radial-gradient(${hatch} 1.5px, transparent 1.6px)`, backgroundSize: "7px 7px" },
};

/** One host. What is written on it is also what it is called; the hint adds the rest. */
export function Pane(props: { name: string; look: Look; line?: string; hint: string; onOpen: () => void }) {
  return (
    <Box
      asChild
      w="86px"
      h="50px"
      backgroundColor={props.look.fill}
      color="pane.ink"
      borderWidth="1px"
      borderColor="fg.quiet"
      rounded="2px"
      px="1.5"
      py="1"
      textAlign="left"
      lineHeight="1.15"
      cursor="pointer"
      css={patterns[props.look.pattern]}
    >
      <button type="button" title={props.hint} onClick={props.onOpen}>
        <Text fontSize="xs" fontWeight="600" truncate>
          {props.name}
        </Text>
        <Text fontSize="11px">{props.look.word}</Text>
        <Text fontSize="11px" truncate>
          {props.line}
        </Text>
      </button>
    </Box>
  );
}

/** Panes in a frame. */
export function Window({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Flex
      role="group"
      aria-label={label}
      wrap="wrap"
      gap="4px"
      p="6px"
      bg="bg.canvas"
      borderWidth="3px"
      borderColor="line"
      rounded="sm"
    >
      {children}
    </Flex>
  );
}
