import js from "@eslint/js";
import globals from "globals";

export default [
  { ignores: [".venv/", ".local/", "**/vendor/"] },
  js.configs.recommended,
  {
    languageOptions: { globals: { ...globals.browser, htmx: "readonly" } },
    rules: {
      eqeqeq: ["error", "always", { null: "ignore" }],
      "prefer-const": "error",
      "no-var": "error",
      "no-unused-vars": ["error", { ignoreRestSiblings: true }],
    },
  },
  {
    files: ["**/sink.js"],
    languageOptions: { globals: globals.audioWorklet },
  },
];
