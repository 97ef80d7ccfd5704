import { ChakraProvider } from "@chakra-ui/react";
import { QueryClientProvider } from "@tanstack/react-query";
import { type ComponentType, StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, RouterProvider } from "react-router";
import { Layout } from "./layout";
import { SignInPage } from "./pages/sign-in";
import { askAhead, queries } from "./parts/queries";
import { Signed } from "./session";
import { system } from "./theme";
import { Empty, Loading, Page } from "./ui";

/** A page that is loaded when somebody goes there, and with it what takes longest to ask for. */
function page(path: string, load: () => Promise<ComponentType>) {
  return {
    path,
    loader: ({ request }: { request: Request }) => {
      askAhead(new URL(request.url).pathname);
      return null;
    },
    lazy: async () => ({ Component: await load() }),
  };
}

const router = createBrowserRouter([
  {
    element: (
      <Signed otherwise={<SignInPage />}>
        <Layout />
      </Signed>
    ),
    hydrateFallbackElement: <Loading />,
    children: [
      page("/", async () => (await import("./pages/today")).TodayPage),
      page("/images", async () => (await import("./pages/images")).ImagesPage),
      page("/images/:image", async () => (await import("./pages/image")).ImagePage),
      page("/images/:image/settings", async () => (await import("./pages/image-settings")).ImageSettingsPage),
      page("/images/:image/versions/:number", async () => (await import("./pages/version")).VersionPage),
      page("/images/:image/versions/:number/:tab", async () => (await import("./pages/version")).VersionPage),
      page("/images/:image/compare/:number", async () => (await import("./pages/compare")).ComparePage),
      page("/software", async () => (await import("./pages/software")).SoftwarePage),
      page("/bases", async () => (await import("./pages/bases")).BasesPage),
      page("/feeds/:feed", async () => (await import("./pages/feed")).FeedPage),
      page("/bases/:base", async () => (await import("./pages/base")).BasePage),
      page("/sheets", async () => (await import("./pages/sheets")).SheetsPage),
      page("/sheets/:sheet", async () => (await import("./pages/sheet")).SheetPage),
      page("/calendar", async () => (await import("./pages/calendar")).CalendarPage),
      page("/builds", async () => (await import("./pages/builds")).BuildsPage),
      page("/builds/:build", async () => (await import("./pages/build")).BuildPage),
      page(
        "/build-machines/:site/:machine",
        async () => (await import("./pages/build-machine")).BuildMachinePage,
      ),
      page("/build-machines", async () => (await import("./pages/build-machines")).BuildMachinesPage),
      page("/sites", async () => (await import("./pages/sites")).SitesPage),
      page("/sites/:site", async () => (await import("./pages/site")).SitePage),
      page("/hosts", async () => (await import("./pages/hosts")).HostsPage),
      page("/hosts/:host", async () => (await import("./pages/host")).HostPage),
      page("/people", async () => (await import("./pages/people")).PeoplePage),
      page("/pools", async () => (await import("./pages/pools")).PoolsPage),
      page("/pools/:pool", async () => (await import("./pages/pool")).PoolPage),
      page("/rollovers", async () => (await import("./pages/rollovers")).RolloversPage),
      page("/rollovers/new", async () => (await import("./pages/start")).StartPage),
      page("/rollovers/:id", async () => (await import("./pages/rollover")).RolloverPage),
      page("/trail", async () => (await import("./pages/trail")).TrailPage),
      page("/estate", async () => (await import("./pages/estate")).EstatePage),
      page("/accounts", async () => (await import("./pages/accounts")).AccountsPage),
      page("/tokens", async () => (await import("./pages/tokens")).TokensPage),
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
