import { expect, it } from "vitest";
import { system } from "./theme";

const sources = import.meta.glob("./**/*.{ts,tsx}", {
  query: "?raw",
  import: "default",
  eager: true,
}) as Record<string, string>;

it("no page imports another, and nothing that pages share imports a page", () => {
  const pages = Object.keys(sources).filter((f) => f.startsWith("./pages/"));
  expect(pages.length).toBeGreaterThan(10);
  for (const [file, text] of Object.entries(sources)) {
    if (file.includes(".test.") || file === "./app.tsx") continue;
    const imports = [...text.matchAll(/from "([^"]+)"/g)].map((m) => m[1]);
    expect(
      imports.filter((i) => i.includes("/pages/") || (file.startsWith("./pages/") && i.startsWith("./"))),
      file,
    ).toEqual([]);
  }
});

// The recipes that a component of the library is drawn by; what is not here has none.
const recipes: Record<string, string[]> = {
  Alert: ["alert"],
  Badge: ["badge"],
  Button: ["button"],
  Checkbox: ["checkbox", "checkmark"],
  Clipboard: [],
  CloseButton: ["button"],
  Code: ["code"],
  Dialog: ["dialog"],
  Field: ["field"],
  FileUpload: ["fileUpload"],
  Heading: ["heading"],
  IconButton: ["button"],
  Input: ["input"],
  Link: ["link"],
  NativeSelect: ["nativeSelect"],
  Progress: ["progress"],
  Spinner: ["spinner"],
  Table: ["table"],
  Tabs: ["tabs"],
  Textarea: ["textarea"],
  Toast: ["toast"],
};
const plain = ["Box", "ChakraProvider", "Flex", "HStack", "Portal", "Text", "Toaster", "VStack", "chakra"];

it("text that scrolls is reached by keyboard", () => {
  for (const [file, text] of Object.entries(sources))
    for (const [tag] of text.matchAll(/<\w+[^<>]*as="pre"[^>]*>/g))
      expect(tag, file).toContain("tabIndex={0}");
});

it("the theme has what every component that is used is drawn by", () => {
  const used = new Set<string>();
  for (const text of Object.values(sources))
    for (const [, names = ""] of text.matchAll(/import \{([^}]*)\} from "@chakra-ui\/react"/g))
      for (const name of names.split(",").map((n) => n.trim()))
        if (/^[A-Z]|^chakra$/.test(name)) used.add(name);
  expect(used.size).toBeGreaterThan(20);
  for (const name of used) {
    if (plain.includes(name)) continue;
    expect(recipes[name], `${name}: add it here and to theme.ts`).toBeDefined();
    for (const key of recipes[name] ?? [])
      expect(system.isRecipe(key) || system.isSlotRecipe(key), key).toBe(true);
  }
  expect(system.isSlotRecipe("accordion")).toBe(false);
});
