import { Box, Code, Flex, HStack, Text, VStack } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { CircleAlert, CircleDot } from "lucide-react";
import { api, call, type Matter } from "../api";
import { count } from "../format";
import { Empty, Page, Panel, Shown, To, Words } from "../ui";

const kinds: Record<Matter["kind"], string> = {
  site: "site",
  rollover: "rollover",
  build: "build",
  machine: "build machine",
  proof: "first start",
  faulty: "hosts",
  drained: "hosts",
  trial: "trial",
  cleared: "trial",
  drift: "drift",
  copy: "copy",
  "end-of-life": "end-of-life",
  flaw: "known flaw",
  crash: "crashed task",
  readiness: "going back",
};

export function TodayPage() {
  const today = useQuery({ queryKey: ["today"], queryFn: () => call(api.GET("/api/v1/today")) });
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => call(api.GET("/api/v1/pools")) });
  return (
    <Page title="Today" lead="What needs you now, the most urgent first.">
      <Shown query={pools}>
        {({ items }) => {
          const sum = (of: (p: (typeof items)[number]) => number) => items.reduce((n, p) => n + of(p), 0);
          const tiles: [string, string, string][] = [
            ["Hosts serving", `${sum((p) => p.states.serving ?? 0)}`, `of ${sum((p) => p.hosts)}`],
            [
              "People signed in",
              `${sum((p) => p.sessions)}`,
              `${count(
                sum((p) => p.free),
                "seat",
              )} free`,
            ],
            [
              "Hosts that drift",
              `${sum((p) => p.drifting)}`,
              `in ${count(items.filter((p) => p.drifting > 0).length, "pool")}`,
            ],
            [
              "Rollovers under way",
              `${items.filter((p) => p.rollover > 0).length}`,
              `of ${count(items.length, "pool")}`,
            ],
          ];
          return (
            <Flex gap="3" mb="4" wrap="wrap">
              {tiles.map(([name, value, rest]) => (
                <Box
                  key={name}
                  bg="bg.panel"
                  borderWidth="1px"
                  borderColor="line"
                  rounded="md"
                  px="4"
                  py="3"
                  flex="1"
                  minW="170px"
                >
                  <Text color="fg.quiet" fontSize="sm">
                    {name}
                  </Text>
                  <HStack align="baseline">
                    <Text fontSize="2xl" fontWeight="600" fontVariantNumeric="tabular-nums">
                      {value}
                    </Text>
                    <Text color="fg.quiet">{rest}</Text>
                  </HStack>
                </Box>
              ))}
            </Flex>
          );
        }}
      </Shown>
      <Panel>
        <Shown query={today}>
          {({ items }) =>
            items.length === 0 ? (
              <Empty>Nothing needs you now.</Empty>
            ) : (
              <VStack as="ul" align="stretch" gap="0" listStyleType="none">
                {items.map((m) => (
                  <Flex
                    as="li"
                    key={m.title}
                    gap="3"
                    py="2.5"
                    borderTopWidth="1px"
                    borderColor="line"
                    _first={{ borderTopWidth: 0 }}
                    align="start"
                    wrap={{ base: "wrap", lg: "nowrap" }}
                  >
                    <Box pt="1" color={m.urgent ? "red.fg" : "deep.fg"}>
                      {m.urgent ? (
                        <CircleAlert size={16} aria-label="urgent" />
                      ) : (
                        <CircleDot size={16} aria-hidden />
                      )}
                    </Box>
                    <Box flex="1" minW={{ base: "calc(100% - 2rem)", lg: "0" }}>
                      <To to={`/${m.link}`}>{m.title}</To>
                      {m.detail && (
                        <Text color="fg.quiet">
                          <Words>{m.detail}</Words>
                        </Text>
                      )}
                    </Box>
                    <Text w="90px" color="fg.quiet" fontSize="sm">
                      {kinds[m.kind]}
                    </Text>
                    <Box w={{ lg: "360px" }} fontSize="sm" textAlign={{ lg: "right" }}>
                      {m.command && (
                        <Code variant="plain" color="fg.quiet" bg="transparent" fontSize="xs">
                          {m.command}
                        </Code>
                      )}
                    </Box>
                  </Flex>
                ))}
              </VStack>
            )
          }
        </Shown>
      </Panel>
    </Page>
  );
}
