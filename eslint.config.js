import js from '@eslint/js';
import prettier from 'eslint-config-prettier';
import vue from 'eslint-plugin-vue';
import globals from 'globals';
import ts from 'typescript-eslint';

export default ts.config(
  { ignores: ['**/dist/', '**/coverage/', 'node_modules/'] },
  js.configs.recommended,
  ...ts.configs.strict,
  ...vue.configs['flat/recommended'],
  {
    languageOptions: { globals: { ...globals.node, ...globals.browser } },
    rules: {
      'no-console': ['error', { allow: ['error'] }],
      'no-duplicate-imports': 'error',
      eqeqeq: 'error',
      '@typescript-eslint/no-unused-vars': ['error', { ignoreRestSiblings: true }],
      '@typescript-eslint/consistent-type-imports': 'error',
      // An index that was checked a line above is known to be there; the compiler cannot see that.
      '@typescript-eslint/no-non-null-assertion': 'off',
      '@typescript-eslint/no-extraneous-class': 'off',
      // Members of JSON objects have names that are only known at run time.
      '@typescript-eslint/no-dynamic-delete': 'off',
    },
  },
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: ts.parser } },
    rules: { 'vue/multi-word-component-names': 'off' },
  },
  {
    files: ['**/*.cjs'],
    languageOptions: { sourceType: 'commonjs' },
    rules: { '@typescript-eslint/no-require-imports': 'off' },
  },
  {
    // Applying a record of the log depends on the state and the record alone.
    files: ['packages/service/src/state/**'],
    rules: {
      'no-restricted-globals': [
        'error',
        ...['Date', 'Intl', 'performance', 'process', 'crypto', 'setTimeout', 'setInterval', 'setImmediate', 'fetch'],
      ],
      'no-restricted-properties': [
        'error',
        { object: 'Math', property: 'random' },
        ...['toLocaleString', 'toLocaleLowerCase', 'toLocaleUpperCase', 'localeCompare'].map((property) => ({
          property,
        })),
      ],
      'no-restricted-syntax': [
        'error',
        {
          selector: "ImportDeclaration[source.value='node:crypto'] > ImportSpecifier[imported.name!='createHash']",
          message: 'Only hashes: everything random comes in a record.',
        },
      ],
    },
  },
  { files: ['**/*.test.ts'], rules: { '@typescript-eslint/no-unused-expressions': 'off' } },
  { files: ['scripts/**', 'test/*.cjs', 'bench/**'], rules: { 'no-console': 'off' } },
  prettier,
);
