import { create } from "zustand";

type Theme = "day" | "night";

const KEPT_AS = "northgate-theme";

function initial(): Theme {
  const kept = localStorage.getItem(KEPT_AS);
  if (kept === "day" || kept === "night") return kept;
  return matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day";
}

function show(theme: Theme): void {
  document.documentElement.dataset["theme"] = theme;
}

/** Day or night, kept in the browser; the first time as the system has it. */
export const useTheme = create<{ theme: Theme; toggle: () => void }>((set, get) => {
  const theme = initial();
  show(theme);
  return {
    theme,
    toggle: () => {
      const next = get().theme === "day" ? "night" : "day";
      localStorage.setItem(KEPT_AS, next);
      show(next);
      set({ theme: next });
    },
  };
});
