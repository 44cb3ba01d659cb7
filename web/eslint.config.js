import js from "@eslint/js";
import boundaries from "eslint-plugin-boundaries";
import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

// The folders of `src`, from bottom to top: each may import from those before it, and from itself.
const FOLDERS = ["api", "kit", "plan", "form", "board", "timeline", "views", "shell"];

export default tseslint.config(
  { ignores: ["dist", "src/api/schema.d.ts", "eslint.config.js"] },
  js.configs.recommended,
  ...tseslint.configs.strict,
  ...tseslint.configs.stylistic,
  {
    plugins: { "react-hooks": hooks, boundaries },
    settings: {
      "import/resolver": { typescript: true },
      "boundaries/elements": [
        // A view is a folder of its own: views know nothing of each other.
        { type: "views", pattern: "src/views/*", capture: ["view"] },
        ...FOLDERS.filter((one) => one !== "views").map((type) => ({ type, pattern: `src/${type}` })),
      ],
    },
    rules: {
      ...hooks.configs.recommended.rules,
      "no-restricted-globals": ["error", { name: "fetch", message: "Only src/api fetches." }],
      "no-restricted-syntax": [
        "error",
        { selector: "CallExpression[callee.property.name='addEventListener'][arguments.0.value=/^key/]", message: "Keys are bound in src/kit/keys." },
      ],
      "boundaries/dependencies": [
        "error",
        {
          default: "disallow",
          policies: FOLDERS.map((from, place) => ({
            from: { element: { type: from } },
            allow: [...FOLDERS.slice(0, place).map((type) => ({ to: { element: { type } } })), { to: { element: from === "views" ? { type: from, captured: { view: "{{ from.element.captured.view }}" } } : { type: from } } }],
          })),
        },
      ],
    },
  },
);
