import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { Refusal } from "./api";
import { Layout } from "./layout";
import { HostPage } from "./pages/host";
import { ImagePage } from "./pages/image";
import { ImagesPage } from "./pages/images";
import { PoolPage } from "./pages/pool";
import { PoolsPage } from "./pages/pools";
import { RolloverPage } from "./pages/rollover";
import { RolloversPage } from "./pages/rollovers";
import { SignInPage } from "./pages/sign-in";
import { SitePage, SitesPage } from "./pages/site";
import { StartPage } from "./pages/start";
import { TodayPage } from "./pages/today";
import { TrailPage } from "./pages/trail";
import { Signed } from "./session";
import { system } from "./theme";
import { Empty, Page } from "./ui";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      // A service that restarts is back in a moment; what it refuses it will refuse again.
      retry: (n, error) => n < 5 && !(error instanceof Refusal && error.status >= 400 && error.status < 500),
      retryDelay: 800,
    },
  },
});

const router = createBrowserRouter([
  {
    element: (
      <Signed otherwise={<SignInPage />}>
        <Layout />
      </Signed>
    ),
    children: [
      { path: "/", element: <TodayPage /> },
      { path: "/images", element: <ImagesPage /> },
      { path: "/images/:image", element: <ImagePage /> },
      { path: "/sites", element: <SitesPage /> },
      { path: "/sites/:site", element: <SitePage /> },
      { path: "/hosts/:host", element: <HostPage /> },
      { path: "/pools", element: <PoolsPage /> },
      { path: "/pools/:pool", element: <PoolPage /> },
      { path: "/rollovers", element: <RolloversPage /> },
      { path: "/rollovers/new", element: <StartPage /> },
      { path: "/rollovers/:id", element: <RolloverPage /> },
      { path: "/trail", element: <TrailPage /> },
      {
        path: "*",
        element: (
          <Page title="Nothing here">
            <Empty>There is no page at this address.</Empty>
          </Page>
        ),
      },
    ],
  },
]);

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <ChakraProvider value={system}>
        <QueryClientProvider client={queries}>
          <RouterProvider router={router} />
        </QueryClientProvider>
      </ChakraProvider>
    </StrictMode>,
  );
}
