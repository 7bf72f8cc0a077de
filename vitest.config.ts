import { defineConfig } from 'vitest/config';

export default defineConfig({
  // Decorators with metadata are compiled by the same rules as in the build.
  oxc: { decorator: { legacy: true, emitDecoratorMetadata: true } },
  test: {
    env: { QUAY_LOG: 'silent' },
    projects: [
      {
        extends: true,
        test: {
          name: 'unit',
          include: ['packages/*/src/**/*.test.ts', 'apps/outside/src/**/*.test.ts', 'apps/web/src/**/*.test.ts'],
        },
      },
      {
        extends: true,
        test: {
          name: 'server',
          include: ['apps/server/src/**/*.test.ts'],
          testTimeout: 30_000,
          hookTimeout: 60_000,
          maxWorkers: 3,
          // What is loaded serves every file of a worker: nothing a module remembers may matter to the next office.
          isolate: false,
          globalSetup: ['scripts/lib/test-database.mjs'],
        },
      },
      {
        extends: true,
        test: {
          name: 'browser',
          include: ['e2e/**/*.test.ts'],
          testTimeout: 120_000,
          hookTimeout: 120_000,
          // A browser waits for most of its time: two people at once, in one browser.
          maxWorkers: 2,
          isolate: false,
          globalSetup: ['scripts/lib/test-database.mjs', 'scripts/lib/test-browser.mjs'],
        },
      },
    ],
  },
});
