const pause = 60_000; // milliseconds

/**
 * Loads the page anew when a part of it is missing: the service has another release of the console by now. It does so
 * once a minute at most, as the part may be missing for another reason.
 */
export function reloadOnce(event: Event) {
  const last = Number(sessionStorage.getItem("reloaded") ?? 0);
  if (Date.now() - last < pause) return;
  event.preventDefault();
  sessionStorage.setItem("reloaded", String(Date.now()));
  window.location.reload();
}
