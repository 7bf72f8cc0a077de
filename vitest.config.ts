import { defineConfig } from 'vitest/config';
import { BaseSequencer, type TestSpecification } from 'vitest/node';

// What takes longest, first: begun last it would run alone at the end, and leave a core idle.
const LONG = [
  'upgrade',
  'matrix',
  'backups',
  'copying',
  'faults',
  'kill-uploads',
  'kill',
  'setup',
  'hidden',
  'hostile',
  'kill-setup',
  'denial',
  'mail',
  'running',
  'standing',
  'past-rights',
  'naive',
  'real',
  'desk',
  'settings',
  'stores',
];

class LongestFirst extends BaseSequencer {
  override async sort(files: TestSpecification[]): Promise<TestSpecification[]> {
    const place = ({ moduleId }: TestSpecification) => {
      const found = LONG.findIndex((name) => moduleId.endsWith(`/${name}.test.ts`));
      return found === -1 ? LONG.length : found;
    };
    return (await super.sort(files)).sort((a, b) => place(a) - place(b));
  }
}

export default defineConfig({
  // Decorators with metadata are compiled by the same rules as in the build.
  oxc: { decorator: { legacy: true, emitDecoratorMetadata: true } },
  test: {
    env: { QUAY_LOG: 'silent' },
    sequence: { sequencer: LongestFirst },
    // What is waited for may take its time on a slow machine.
    expect: { poll: { timeout: 60_000 } },
    // The queue's library waits for no answer when it says that a job is done. Where a test takes the database away at
    // that moment this is what is left of it; the server survives it (platform/aside.ts).
    onUnhandledError: (error) =>
      !(
        /ECONN(RESET|REFUSED)|the database system is|terminating connection/.test(error.message) &&
        /pg-boss/.test(error.stack ?? '')
      ),
    projects: [
      {
        extends: true,
        test: {
          name: 'unit',
          sequence: { groupOrder: 0 },
          include: ['packages/*/src/**/*.test.ts', 'apps/outside/src/**/*.test.ts', 'apps/web/src/**/*.test.ts'],
          // A slow machine is no failure.
          testTimeout: 120_000,
          maxWorkers: 2,
          isolate: false,
        },
      },
      {
        extends: true,
        test: {
          name: 'server',
          sequence: { groupOrder: 1 },
          include: ['apps/server/src/**/*.test.ts'],
          // Far beyond what they take: a slow machine is no failure.
          testTimeout: 120_000,
          hookTimeout: 240_000,
          maxWorkers: 3,
          // What is loaded serves every file of a worker: nothing a module remembers may matter to the next office.
          isolate: false,
          globalSetup: ['scripts/lib/test-database.mjs'],
        },
      },
      {
        extends: true,
        test: {
          name: 'lab',
          sequence: { groupOrder: 3 },
          include: ['lab/**/*.test.ts'],
          testTimeout: 120_000,
          hookTimeout: 240_000,
          maxWorkers: 2,
          isolate: false,
          globalSetup: ['scripts/lib/test-database.mjs'],
        },
      },
      {
        extends: true,
        test: {
          name: 'browser',
          sequence: { groupOrder: 2 },
          include: ['e2e/**/*.test.ts'],
          testTimeout: 240_000,
          hookTimeout: 240_000,
          // A browser waits for most of its time: two people at once, in one browser.
          maxWorkers: 2,
          isolate: false,
          globalSetup: ['scripts/lib/test-database.mjs', 'scripts/lib/test-browser.mjs'],
        },
      },
    ],
  },
});
