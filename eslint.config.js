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
  verify: ['core'],
  server: ['core', 'contract', 'verify'],
  web: ['core', 'contract', 'verify'],
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

/** The rooms of the server, the lowest first: each may look down and not up (docs/architecture.md). */
const rooms =
  'database http work mail ledger alarms evidence schema scope people sources capture found standing tracking watch collector guards baselines corrections reconcile custody noticing pulse changes figures cases records packs erasure panel review today watches'.split(
    ' ',
  )

/** Who may do what is asked of the permission table. */
const noRoles = {
  selector: 'Literal[value=/^(administrator|reviewer|approver|auditor|contributor)$/]',
  message: 'Roles are named in the permission table alone (contract/permission.ts): ask for a permission or a sight.',
}

const notUp = (room, above) => ({
  selector: `:matches(ImportDeclaration, ExportNamedDeclaration)[source.value=/^(\\.\\.\\u002F)+(${above.join('|')})\\u002F/]`,
  message: `${room} stands below that room and may not look into it.`,
})

const downwards = rooms.map((room, at) => ({
  files: [`packages/server/src/${room}/**/*.ts`],
  rules: {
    'no-restricted-syntax': ['error', noRoles, ...(at < rooms.length - 1 ? [notUp(room, rooms.slice(at + 1))] : [])],
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
  {
    // What is promised is waited for, or said not to be.
    files: ['packages/*/src/**/*.ts'],
    ignores: ['**/*.test.ts', '**/*.arbitrary.ts'],
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    rules: {
      '@typescript-eslint/no-floating-promises': 'error',
      '@typescript-eslint/no-misused-promises': [
        'error',
        { checksVoidReturn: { arguments: false, attributes: false } },
      ],
      '@typescript-eslint/await-thenable': 'error',
    },
  },
  ...direction,
  ...downwards,
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
