/** Light and dark, by the system's setting or by switch. */
const key = "theme";

const dark = window.matchMedia("(prefers-color-scheme: dark)");

export function theme(): "light" | "dark" {
  const chosen = localStorage.getItem(key);
  return chosen === "light" || chosen === "dark" ? chosen : dark.matches ? "dark" : "light";
}

export function applyTheme() {
  const set = () => document.documentElement.setAttribute("data-theme", theme());
  dark.addEventListener("change", set);
  set();
}

export function switchTheme() {
  const next = theme() === "dark" ? "light" : "dark";
  localStorage.setItem(key, next);
  document.documentElement.setAttribute("data-theme", next);
}
