import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { api, call } from "../api";
import { count } from "../format";
import { Tracks } from "../parts/tracks";
import { NoneYet, Page, Panel, Shown, To } from "../ui";

export function ImagesPage() {
  const images = useQuery({ queryKey: ["images"], queryFn: () => call(api.GET("/api/v1/images")) });
  return (
    <Page title="Images" lead="The golden images, and the versions that their tracks name.">
      <Shown query={images}>
        {({ items }) =>
          items.length === 0 ? (
            <NoneYet of="image" />
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
