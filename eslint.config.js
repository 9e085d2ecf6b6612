import js from '@eslint/js'
import ts from 'typescript-eslint'
import vue from 'eslint-plugin-vue'
import prettier from 'eslint-config-prettier'
import globals from 'globals'

/** Packages a package may import; the arrows of docs/architecture.md, enforced. */
const allowed = {
  core: [],
  contract: ['core'],
  client: [],
  server: ['core', 'contract'],
  web: ['core', 'contract'],
  demo: ['core', 'contract', 'client', 'server'],
}

const everyPackage = Object.keys(allowed)

const direction = everyPackage.map((name) => ({
  files: [`packages/${name}/**/*.{ts,vue}`],
  rules: {
    'no-restricted-imports': [
      'error',
      {
        patterns: [
          {
            regex: `^@spoor/(${everyPackage.filter((other) => other !== name && !allowed[name].includes(other)).join('|')})(/|$)`,
            message: `packages/${name} may import only: ${allowed[name].join(', ') || 'nothing of ours'}.`,
          },
          { regex: '^(\\.\\./)+packages/', message: 'Import other packages by name.' },
        ],
      },
    ],
  },
}))

export default ts.config(
  {
    ignores: ['**/dist/**', '**/node_modules/**', '.spoor*/**', '.spoor-*', 'test-results/**', 'playwright-report/**'],
  },
  js.configs.recommended,
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  prettier,
  { languageOptions: { globals: { ...globals.node } } },
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: ts.parser }, globals: { ...globals.browser } },
    rules: { 'vue/multi-word-component-names': 'off', 'vue/require-default-prop': 'off', 'vue/no-v-html': 'error' },
  },
  { files: ['packages/web/**/*.ts'], languageOptions: { globals: { ...globals.browser } } },
  {
    rules: {
      eqeqeq: ['error', 'always'],
      // Formatting is Prettier's, without exceptions.
      'no-warning-comments': ['error', { terms: ['prettier-ignore'], location: 'anywhere' }],
      'no-empty': ['error', { allowEmptyCatch: false }],
      '@typescript-eslint/no-explicit-any': 'error',
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }],
      '@typescript-eslint/consistent-type-imports': 'error',
    },
  },
  ...direction,
  {
    files: ['packages/core/src/**/*.ts'],
    ignores: ['**/*.test.ts'],
    rules: {
      'no-restricted-syntax': [
        'error',
        { selector: "NewExpression[callee.name='Date'][arguments.length=0]", message: 'The clock is a parameter.' },
        {
          selector: "CallExpression[callee.object.name='Date'][callee.property.name='now']",
          message: 'The clock is a parameter.',
        },
        {
          selector: "CallExpression[callee.object.name='Math'][callee.property.name='random']",
          message: 'Chance is a parameter.',
        },
      ],
    },
  },
)
