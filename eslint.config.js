import js from "@eslint/js";
import globals from "globals";

export default [
  js.configs.recommended,
  {
    files: ["src/**/*.js"],
    languageOptions: { globals: { ...globals.browser, uPlot: "readonly", Alpine: "readonly" } },
  },
  { files: ["tests/**/*.js"], languageOptions: { globals: globals.node } },
  {
    rules: {
      eqeqeq: "error",
      "no-var": "error",
      "prefer-const": ["error", { destructuring: "all" }],
      "no-implicit-globals": "error",
    },
  },
];
