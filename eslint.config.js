import js from '@eslint/js';
import hooks from 'eslint-plugin-react-hooks';
import tseslint from 'typescript-eslint';

/** Imports run one way: what each part may not import. The build fails when this is broken. */
const forbid = (message, ...group) => ({ 'no-restricted-imports': ['error', { patterns: [{ group, message }] }] });
const NODE = ['node:*', 'fs', 'path', 'crypto', 'http', 'net', 'os', 'child_process', 'stream', 'url', 'util', 'zlib'];
const GLOBALS_OF_HOSTS = [
  'process',
  'Buffer',
  'window',
  'document',
  'navigator',
  'location',
  'localStorage',
  'sessionStorage',
  'fetch',
  'XMLHttpRequest',
  'setTimeout',
  'setInterval',
  'performance',
  'crypto',
  'console',
];
const CLOCK_AND_CHANCE = [
  {
    selector: "CallExpression[callee.object.name='Date'][callee.property.name='now']",
    message: 'Core reads no clock: take the time as an argument.',
  },
  {
    selector: "NewExpression[callee.name='Date'][arguments.length=0]",
    message: 'Core reads no clock: take the time as an argument.',
  },
  {
    selector: "CallExpression[callee.object.name='Math'][callee.property.name='random']",
    message: 'Core makes no random values: take the bytes as an argument.',
  },
];

export default tseslint.config(
  { ignores: ['**/dist/**', '**/node_modules/**', 'var/**'] },
  js.configs.recommended,
  ...tseslint.configs.recommended,
  {
    rules: {
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }],
      '@typescript-eslint/no-explicit-any': 'error',
      '@typescript-eslint/no-non-null-assertion': 'error',
      eqeqeq: 'error',
    },
  },
  {
    files: ['**/*.{ts,tsx}'],
    ignores: ['packages/core/src/text/globals.d.ts'],
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    rules: {
      '@typescript-eslint/no-floating-promises': 'error',
      // Handlers of the browser's interface may be asynchronous; what they refuse is told where it is asked for.
      '@typescript-eslint/no-misused-promises': ['error', { checksVoidReturn: { attributes: false } }],
    },
  },
  {
    // What is longer than a page cannot be read.
    files: ['{apps,packages}/*/src/**/*.{ts,tsx}'],
    ignores: ['**/*.test.ts'],
    rules: { 'max-lines-per-function': ['error', { max: 80 }] },
  },
  {
    // A program that serves must not be ended by a promise that nobody waits for: `void` is no answer there, see `aside`.
    files: ['apps/{server,outside}/src/**/*.ts', 'packages/{probe,relay}/src/**/*.ts'],
    ignores: ['**/*.test.ts'],
    rules: { '@typescript-eslint/no-floating-promises': ['error', { ignoreVoid: false }] },
  },
  {
    files: ['**/*.mjs', 'eslint.config.js'],
    languageOptions: {
      globals: {
        document: 'readonly',
        process: 'readonly',
        console: 'readonly',
        setTimeout: 'readonly',
        clearTimeout: 'readonly',
        Buffer: 'readonly',
        URL: 'readonly',
        URLSearchParams: 'readonly',
        fetch: 'readonly',
        performance: 'readonly',
      },
    },
  },
  {
    files: ['packages/core/src/**/*.ts'],
    ignores: ['**/*.test.ts'],
    rules: {
      ...forbid(
        'Core holds rules only: nothing of ours, no host, no framework.',
        '@quay/*',
        '**/apps/**',
        ...NODE,
        '@nestjs/*',
        'typeorm',
        'pg',
        'react',
        'react-*',
        'joi',
        'express',
      ),
      'no-restricted-globals': ['error', ...GLOBALS_OF_HOSTS],
      'no-restricted-syntax': ['error', ...CLOCK_AND_CHANCE],
    },
  },
  {
    files: ['packages/contract/src/**/*.ts'],
    rules: forbid(
      'The contract stands on core alone.',
      '@quay/server',
      '@quay/web',
      '@quay/outside',
      '**/apps/**',
      ...NODE,
      '@nestjs/*',
      'typeorm',
      'react',
    ),
  },
  {
    files: ['packages/probe/src/**/*.ts'],
    ignores: ['**/*.test.ts'],
    rules: {
      'no-restricted-imports': [
        'error',
        { patterns: [{ regex: '^(?!node:)', message: 'The probe is one file without dependencies.' }] },
      ],
    },
  },
  {
    files: ['packages/relay/src/**/*.ts'],
    ignores: ['**/*.test.ts'],
    rules: {
      'no-restricted-imports': [
        'error',
        { patterns: [{ regex: '^(?!node:|\\.{1,2}/)', message: 'The relay stands alone, on a machine elsewhere.' }] },
      ],
    },
  },
  {
    files: ['apps/server/src/**/*.ts'],
    rules: forbid(
      'The server knows neither the web application nor the outside world.',
      '@quay/web',
      '@quay/outside',
      '**/apps/**',
      '**/web/src/**',
      '**/outside/src/**',
      'react',
      'react-*',
    ),
  },
  {
    files: ['apps/server/src/platform/**/*.ts'],
    ignores: ['**/*.test.ts'],
    rules: forbid(
      'The platform stands below the capabilities.',
      '@quay/web',
      '@quay/outside',
      '**/people/**',
      '**/stores/**',
      '**/shares/**',
      '**/transfers/**',
      '**/visits/**',
      '**/ledger/**',
      '**/live/**',
      '**/reach/**',
      '**/demo/**',
    ),
  },
  {
    files: ['apps/web/src/**/*.{ts,tsx}'],
    plugins: { 'react-hooks': hooks },
    rules: {
      'react-hooks/rules-of-hooks': 'error',
      'react-hooks/exhaustive-deps': 'error',
      ...forbid(
        'The browser knows neither the server nor the outside world.',
        '@quay/server',
        '@quay/outside',
        '**/server/src/**',
        ...NODE,
      ),
    },
  },
  {
    // What is compared there are the files themselves.
    files: ['apps/web/src/styles/*.test.ts'],
    rules: { 'no-restricted-imports': 'off' },
  },
  {
    files: ['apps/web/src/visitor/**/*.ts'],
    rules: forbid(
      'A visitor is sent nothing of the staff application.',
      'react',
      'react-*',
      'zustand',
      'bootstrap*',
      'd3',
      '**/ui/**',
      '**/places/**',
      '**/slip/**',
      '@tanstack/*',
      '@quay/server',
    ),
  },
  {
    files: ['apps/outside/src/**/*.ts'],
    rules: forbid(
      'The outside world is not part of the product: it imports nothing of it but probe and relay, which are carried elsewhere.',
      '@quay/core',
      '@quay/contract',
      '@quay/server',
      '@quay/web',
      '**/server/src/**',
      '**/packages/**',
    ),
  },
);
