import { createSystem, defaultConfig, defineConfig } from "@chakra-ui/react";

// Paper and ink: one accent (ultramarine), one colour each for a warning and a
// failure. Whatever a colour says is also said by a shape or a word.
const config = defineConfig({
  globalCss: {
    "html, body": { bg: "paper", color: "ink", fontSize: "14px", fontFeatureSettings: '"tnum"' },
    // What has the focus is not under the bars that stay at the edges.
    html: { scrollPadding: "72px 0 88px" },
    "*:focus-visible": { outline: "2px solid", outlineColor: "accent", outlineOffset: "2px" },
    a: { color: "accent", textDecoration: "none" },
    "a:hover": { textDecoration: "underline" },
    // A link within a sentence is told from its words by more than its colour.
    "p a": { textDecoration: "underline", textUnderlineOffset: "2px" },
    "*": { _motionReduce: { animationDuration: "0.01ms !important", transitionProperty: "none !important" } },
  },
  theme: {
    tokens: {
      fonts: {
        body: { value: "'Figtree Variable', system-ui, sans-serif, 'Noto Sans JP Variable'" },
        heading: { value: "'Figtree Variable', system-ui, sans-serif, 'Noto Sans JP Variable'" },
        mono: { value: "'JetBrains Mono Variable', ui-monospace, monospace, 'Noto Sans JP Variable'" },
      },
      radii: { sm: { value: "3px" }, md: { value: "4px" }, lg: { value: "6px" } },
    },
    semanticTokens: {
      colors: {
        paper: { value: { base: "#faf8f3", _dark: "#101726" } },
        sheet: { value: { base: "#ffffff", _dark: "#172036" } },
        rail: { value: { base: "#24356b", _dark: "#0b1120" } },
        railInk: { value: { base: "#dfe5f7", _dark: "#c3cce4" } },
        line: { value: { base: "#e3ded2", _dark: "#2a3550" } },
        // The border of what can be typed into or pressed: 3:1 against sheet and paper.
        control: { value: { base: "#858377", _dark: "#6f7c9c" } },
        ink: { value: { base: "#1b2233", _dark: "#e6eaf4" } },
        faint: { value: { base: "#5d6474", _dark: "#9aa5be" } },
        accent: { value: { base: "#2b46b8", _dark: "#9db2ff" } },
        good: { value: { base: "#1d6b4f", _dark: "#6fd3a8" } },
        warning: { value: { base: "#8a5a00", _dark: "#f6c667" } },
        failure: { value: { base: "#a3212f", _dark: "#ff8f98" } },
        // The library's own names, for what it colours by itself.
        fg: { DEFAULT: { value: "{colors.ink}" }, muted: { value: "{colors.faint}" }, subtle: { value: "{colors.faint}" }, error: { value: "{colors.failure}" } },
        bg: { value: { base: "#faf8f3", _dark: "#101726" } },
      },
    },
  },
});

export const system = createSystem(defaultConfig, config);
