import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactNode } from "react";
import { createMemoryRouter, RouterProvider } from "react-router";
import { vi } from "vitest";
import type { Account } from "./api";
import { Signed } from "./session";
import { system } from "./theme";

/** What a service answers: by method and path, a body, or a status with a problem. */
export type Answers = Record<string, unknown | ((request: Request) => unknown)>;

/** An answer that is a problem. */
export class Refused {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly reasons: string[] = [],
    /** The name of the problem type. */
    readonly type = "",
  ) {}
}

/** Stands in for the service, and keeps what was asked of it. */
export function service(answers: Answers): { asked: { what: string; body: unknown }[] } {
  const asked: { what: string; body: unknown }[] = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    const url = new URL(request.url);
    const what = `${request.method} ${url.pathname}`;
    const text = await request.clone().text();
    asked.push({
      what: `${what}${url.search}`,
      body: text.startsWith("{") ? JSON.parse(text) : text || undefined,
    });
    const known = answers[`${what}${url.search}`] ?? answers[what];
    const answer = typeof known === "function" ? known(request) : known;
    if (answer === undefined)
      return Response.json({ detail: `the test has no answer to ${what}` }, { status: 404 });
    if (answer instanceof Refused)
      return Response.json(
        {
          type: answer.type ? `/problems/${answer.type}` : undefined,
          detail: answer.detail,
          errors: answer.reasons.map((message) => ({ message })),
        },
        { status: answer.status },
      );
    if (typeof answer === "string")
      return new Response(answer, { headers: { "Content-Type": "application/yaml" } });
    return Response.json(answer);
  });
  return { asked };
}

/** Shows something as somebody with a role sees it, at an address. */
export function show(element: ReactNode, as: Account["role"] = "operator", address = "/", path = "/*") {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  const account = {
    name: "jonas",
    title: "Jonas Lock",
    role: as,
    disabled: false,
    created_at: "2026-11-01T08:00:00Z",
  };
  queries.setQueryData(["session"], account);
  queries.setQueryDefaults(["session"], { staleTime: Number.POSITIVE_INFINITY });
  const router = createMemoryRouter(
    [
      { path, element: <Signed otherwise={null}>{element}</Signed> },
      { path: "*", element: <p>elsewhere</p> },
    ],
    { initialEntries: [address] },
  );
  render(
    <ChakraProvider value={system}>
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </ChakraProvider>,
  );
  return { queries, router };
}
