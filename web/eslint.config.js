import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(
  { ignores: ["node_modules", "src/api/schema.d.ts"] },
  ...ts.configs.strict,
  hooks.configs.flat.recommended,
  {
    files: ["src/**/*.{ts,tsx}"],
    ignores: ["src/theme/**"],
    rules: {
      "no-restricted-syntax": [
        "error",
        { selector: "Literal[value=/#[0-9a-fA-F]{6}\\b/]", message: "Colours come from src/theme." },
      ],
    },
  },
);
