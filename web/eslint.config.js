import stylistic from "@stylistic/eslint-plugin";
import hooks from "eslint-plugin-react-hooks";
import { defineConfig } from "eslint/config";
import tseslint from "typescript-eslint";

// Prettier lays the code out; here stands what it leaves alone.
export default defineConfig(
  { ignores: ["dist", "src/api/schema.d.ts"] },
  tseslint.configs.recommended,
  hooks.configs.flat["recommended-latest"],
  {
    plugins: { "@stylistic": stylistic },
    files: ["**/*.ts", "**/*.tsx"],
    languageOptions: {
      parserOptions: {
        projectService: { allowDefaultProject: ["vite.config.ts"] },
        tsconfigRootDir: import.meta.dirname,
      },
    },
    rules: {
      // What the contract says is there needs no word for it.
      "@typescript-eslint/no-unnecessary-type-assertion": "error",
      "@stylistic/max-len": ["error", { code: 110 }],
      "@typescript-eslint/no-unused-vars": ["error", { argsIgnorePattern: "^_" }],
    },
  },
);
