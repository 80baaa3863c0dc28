// What the front end is checked by. The folder law: a place knows what is shared, never another place; what is shared
// knows no place; only `main.tsx` knows them all.
import js from "@eslint/js";
import a11y from "eslint-plugin-jsx-a11y";
import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

const PLACES = ["floor", "drift", "baseline", "repository", "runsheet", "record", "people", "house"];
/** What is shared, from the bottom up: each may use those before it. */
const SHARED = ["theme", "api", "ui", "waterline", "shell"];

/** What things look like stands in the theme and in ui/: a call site names a tone, a size, a line, and no more. */
const LOOKS =
  "/^(color|bgcolor|backgroundColor|background|fontSize|fontFamily|fontWeight|typography|border(Top|Bottom|Left|Right)?(Color|Style|Width)?)$/";
const plainCallSites = {
  files: ["src/**/*.tsx"],
  ignores: ["src/ui/**"],
  rules: {
    "no-restricted-syntax": [
      "error",
      {
        selector: `JSXAttribute[name.name=/^(sx|style)$/] Property[key.name=${LOOKS}]`,
        message:
          "Colours, sizes of type and borders stand in ui/ and the theme: name a tone, a size or a line.",
      },
    ],
  },
};

const keptFrom = (folder, others, message) => ({
  files: [`src/${folder}/**/*.{ts,tsx}`],
  rules: {
    "no-restricted-imports": [
      "error",
      { patterns: [{ group: others.map((other) => `../${other}/*`), message }] },
    ],
  },
});

export default tseslint.config(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  js.configs.recommended,
  tseslint.configs.strict,
  a11y.flatConfigs.recommended,
  {
    files: ["src/**/*.{ts,tsx}"],
    plugins: { "react-hooks": hooks },
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    rules: {
      // Those that compile every component first took 13 of 33 s, and found three places, which were mended.
      "react-hooks/exhaustive-deps": "error",
      "react-hooks/rules-of-hooks": "error",
      "@typescript-eslint/await-thenable": "error",
      "@typescript-eslint/no-floating-promises": "error",
      "@typescript-eslint/no-misused-promises": "error",
      // A field that is opened by a person's own act, to be filled next, takes the focus: else a keyboard hunts for it.
      "jsx-a11y/no-autofocus": "off",
    },
  },
  plainCallSites,
  ...PLACES.map((place) =>
    keptFrom(
      place,
      PLACES.filter((other) => other !== place),
      "A place knows no other place: share it below.",
    ),
  ),
  ...SHARED.map((folder, at) =>
    keptFrom(folder, [...PLACES, ...SHARED.slice(at + 1)], "What is shared knows nothing above it."),
  ),
);
