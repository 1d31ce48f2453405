import hooks from "eslint-plugin-react-hooks";
import tseslint from "typescript-eslint";

export default tseslint.config(
  { ignores: ["dist", "src/api.gen.ts", "*.config.*", "public"] },
  ...tseslint.configs.recommendedTypeChecked,
  { languageOptions: { parserOptions: { project: true } }, plugins: { "react-hooks": hooks }, rules: { ...hooks.configs.recommended.rules } },
);
