// Light or dark: as the system says until somebody chooses.
import { useEffect, useState } from "react";

export type Theme = "system" | "light" | "dark";
const key = "echolane-theme";

export function useTheme(): [Theme, (t: Theme) => void] {
  const [theme, set] = useState<Theme>(() => (localStorage.getItem(key) as Theme | null) ?? "system");
  useEffect(() => {
    const dark = matchMedia("(prefers-color-scheme: dark)");
    const apply = () => {
      document.documentElement.dataset.theme = theme === "system" ? (dark.matches ? "dark" : "light") : theme;
    };
    apply();
    dark.addEventListener("change", apply);
    return () => dark.removeEventListener("change", apply);
  }, [theme]);
  return [
    theme,
    (t) => {
      if (t === "system") localStorage.removeItem(key);
      else localStorage.setItem(key, t);
      set(t);
    },
  ];
}
