import { askAhead, queries, whoIsSignedIn } from "./parts/queries";

// What a page shows is asked for before the rest of the console has been loaded.
void queries.prefetchQuery(whoIsSignedIn);
askAhead(window.location.pathname);
void import("./app");
