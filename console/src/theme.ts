import { createSystem, defineConfig } from "@chakra-ui/react";
import { defaultBaseConfig } from "@chakra-ui/react/preset-base";
import {
  alertSlotRecipe,
  animationStyles,
  badgeRecipe,
  breakpoints,
  buttonRecipe,
  checkboxSlotRecipe,
  checkmarkRecipe,
  codeRecipe,
  cssVarsPrefix,
  cssVarsRoot,
  dialogSlotRecipe,
  fieldSlotRecipe,
  fileUploadSlotRecipe,
  globalCss,
  headingRecipe,
  iconRecipe,
  inputRecipe,
  keyframes,
  layerStyles,
  linkRecipe,
  nativeSelectSlotRecipe,
  progressSlotRecipe,
  semanticTokens,
  spinnerRecipe,
  tableSlotRecipe,
  tabsSlotRecipe,
  textareaRecipe,
  textStyles,
  toastSlotRecipe,
  tokens,
} from "@chakra-ui/react/theme";

/** The palettes that are used here, and what is no palette. */
function used<T extends object>(colors: T): T {
  const unused = ["blue", "cyan", "pink", "purple", "yellow"];
  return Object.fromEntries(Object.entries(colors).filter(([name]) => !unused.includes(name))) as T;
}

// What the library has by itself, but only for the components and palettes that
// are used here: all of it takes half a second of every page's first picture.
const library = defineConfig({
  preflight: true,
  cssVarsPrefix,
  cssVarsRoot,
  globalCss,
  theme: {
    breakpoints,
    keyframes,
    tokens: { ...tokens, colors: used(tokens.colors) },
    semanticTokens: { ...semanticTokens, colors: used(semanticTokens.colors) },
    textStyles,
    layerStyles,
    animationStyles,
    recipes: {
      badge: badgeRecipe,
      button: buttonRecipe,
      checkmark: checkmarkRecipe,
      code: codeRecipe,
      heading: headingRecipe,
      icon: iconRecipe,
      input: inputRecipe,
      link: linkRecipe,
      spinner: spinnerRecipe,
      textarea: textareaRecipe,
    },
    slotRecipes: {
      alert: alertSlotRecipe,
      checkbox: checkboxSlotRecipe,
      dialog: dialogSlotRecipe,
      field: fieldSlotRecipe,
      fileUpload: fileUploadSlotRecipe,
      nativeSelect: nativeSelectSlotRecipe,
      progress: progressSlotRecipe,
      table: tableSlotRecipe,
      tabs: tabsSlotRecipe,
      toast: toastSlotRecipe,
    },
  },
});

// The look: calm greys with one colour, that of deep water, for what can be
// done, and amber for what waits for somebody. State is never told by colour
// alone: see panes.tsx.
const config = defineConfig({
  globalCss: {
    "html, body": { fontSize: "14px", bg: "bg.canvas", color: "fg" },
    ":focus-visible": { outline: "2px solid", outlineColor: "deep.focusRing", outlineOffset: "1px" },
  },
  theme: {
    recipes: {
      code: { base: { maxW: "100%", overflowWrap: "anywhere" } },
      checkmark: { variants: { variant: { solid: { borderColor: "line.control" } } } },
      input: { variants: { variant: { outline: { borderColor: "line.control" } } } },
      textarea: { variants: { variant: { outline: { borderColor: "line.control" } } } },
    },
    slotRecipes: {
      nativeSelect: {
        slots: nativeSelectSlotRecipe.slots,
        variants: { variant: { outline: { field: { borderColor: "line.control" } } } },
      },
    },
    tokens: {
      fonts: {
        body: { value: "system-ui, 'DejaVu Sans', sans-serif" },
        heading: { value: "system-ui, 'DejaVu Sans', sans-serif" },
        mono: { value: "ui-monospace, 'DejaVu Sans Mono', monospace" },
      },
      colors: {
        deep: {
          50: { value: "#eaf4f5" },
          100: { value: "#cfe5e7" },
          200: { value: "#a3cdd1" },
          300: { value: "#71b0b7" },
          400: { value: "#458f98" },
          500: { value: "#26727c" },
          600: { value: "#175d67" },
          700: { value: "#124b54" },
          800: { value: "#103c43" },
          900: { value: "#0d2f35" },
          950: { value: "#081f23" },
        },
      },
    },
    semanticTokens: {
      colors: {
        "bg.canvas": { value: { base: "#f5f7f7", _dark: "#12181a" } },
        "bg.panel": { value: { base: "#ffffff", _dark: "#1a2225" } },
        "bg.rail": { value: { base: "#e9eeee", _dark: "#161d20" } },
        "fg.quiet": { value: { base: "#4c5b5e", _dark: "#a3b1b4" } },
        // Borders of input fields have a contrast of at least 3:1 (WCAG 2.2, 1.4.11).
        "line.control": { value: { base: "#7b898c", _dark: "#72838a" } },
        line: { value: { base: "#d5dddd", _dark: "#2d383b" } },
        deep: {
          solid: { value: { base: "{colors.deep.600}", _dark: "{colors.deep.300}" } },
          contrast: { value: { base: "#ffffff", _dark: "#081f23" } },
          fg: { value: { base: "{colors.deep.700}", _dark: "{colors.deep.200}" } },
          muted: { value: { base: "{colors.deep.100}", _dark: "{colors.deep.800}" } },
          subtle: { value: { base: "{colors.deep.50}", _dark: "{colors.deep.900}" } },
          emphasized: { value: { base: "{colors.deep.200}", _dark: "{colors.deep.700}" } },
          focusRing: { value: { base: "{colors.deep.500}", _dark: "{colors.deep.300}" } },
        },
        pane: {
          serving: { value: { base: "#d7ebdd", _dark: "#1f4630" } },
          drift: { value: { base: "#c3d5ea", _dark: "#26405f" } },
          moving: { value: { base: "#f7e2b5", _dark: "#5a4415" } },
          working: { value: { base: "#cfe5e7", _dark: "#164c54" } },
          broken: { value: { base: "#f6cfc9", _dark: "#6b2820" } },
          still: { value: { base: "#eceff0", _dark: "#232c2f" } },
          ink: { value: { base: "#1c2a2d", _dark: "#e6eeee" } },
          hatch: { value: { base: "rgba(28,42,45,0.13)", _dark: "rgba(230,238,238,0.13)" } },
        },
      },
    },
  },
});

export const system = createSystem(defaultBaseConfig, library, config);
