import { Box, Button, Field, Heading, Input, VStack } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, call } from "../api";
import { Problem } from "../ui";

export function SignInPage() {
  const queries = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useMutation({
    mutationFn: () => call(api.POST("/api/v1/session", { body: { name, password } })),
    onSuccess: () => queries.resetQueries(),
  });
  return (
    <Box as="main" display="grid" placeItems="center" minH="100vh">
      <Box
        asChild
        bg="bg.panel"
        borderWidth="1px"
        borderColor="line"
        rounded="md"
        p={{ base: "5", sm: "8" }}
        w="360px"
        maxW="100vw"
      >
        <form
          onSubmit={(e) => {
            e.preventDefault();
            signIn.mutate();
          }}
        >
          <VStack align="stretch" gap="4">
            <VStack gap="2">
              <img src="/icon.svg" alt="" width="44" height="44" />
              <Heading as="h1" size="lg">
                Nimble Pane
              </Heading>
            </VStack>
            <Field.Root required>
              <Field.Label>Name</Field.Label>
              <Input
                value={name}
                onChange={(e) => setName(e.target.value)}
                autoComplete="username"
                autoFocus
                name="name"
              />
            </Field.Root>
            <Field.Root required>
              <Field.Label>Password</Field.Label>
              <Input
                type="password"
                value={password}
                onChange={(e) => setPassword(e.target.value)}
                autoComplete="current-password"
                name="password"
              />
            </Field.Root>
            {signIn.error && <Problem error={signIn.error} />}
            <Button type="submit" colorPalette="deep" loading={signIn.isPending}>
              Sign in
            </Button>
          </VStack>
        </form>
      </Box>
    </Box>
  );
}
