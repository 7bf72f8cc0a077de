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
          maxWorkers: 2,
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
          fileParallelism: false,
          globalSetup: ['scripts/lib/test-database.mjs'],
        },
      },
    ],
  },
});
