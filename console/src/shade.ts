/** Whether the console is dark: as was chosen in this browser, else as the system prefers. */
export function isDark(): boolean {
  const chosen = localStorage.getItem("shade");
  return chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
}

export function chooseDark(dark: boolean) {
  localStorage.setItem("shade", dark ? "dark" : "light");
  showShade();
}

/** Gives the page its colours, before anything is drawn. */
export function showShade() {
  document.documentElement.classList.toggle("dark", isDark());
  document.documentElement.style.colorScheme = isDark() ? "dark" : "light";
}
