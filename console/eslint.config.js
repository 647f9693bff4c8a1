import js from "@eslint/js";
import hooks from "eslint-plugin-react-hooks";
import ts from "typescript-eslint";

export default ts.config(js.configs.recommended, ...ts.configs.recommended, hooks.configs.flat["recommended-latest"], {
  ignores: ["src/api/schema.d.ts", "dist"],
});
