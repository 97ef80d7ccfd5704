import { askAhead, queries, whoIsSignedIn } from "./parts/queries";
import { reloadOnce } from "./release";
import { showShade } from "./shade";

showShade();
window.addEventListener("vite:preloadError", reloadOnce);

// What a page shows is asked for before the rest of the console has been loaded.
void queries.prefetchQuery(whoIsSignedIn);
askAhead(window.location.pathname);
void import("./app");
