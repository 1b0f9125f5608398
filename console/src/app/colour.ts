import { useEffect, useState } from "react";

const name = "ubiquon.mode";

/** Light or dark, as chosen here, else as the system has it. */
export function useColourMode() {
  const [mode, setMode] = useState(() => localStorage.getItem(name) ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light"));
  useEffect(() => {
    const root = document.documentElement;
    root.classList.remove("light", "dark");
    root.classList.add(mode);
    root.style.colorScheme = mode;
    localStorage.setItem(name, mode);
  }, [mode]);
  return { mode, toggle: () => setMode(mode === "dark" ? "light" : "dark") };
}
