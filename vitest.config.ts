import { defineConfig } from 'vitest/config';

// The packages' sources are tested without a build: the condition picks `src` in each package's exports.
const conditions = ['koinon-source'];

export default defineConfig({
  resolve: { conditions },
  ssr: { resolve: { conditions } },
  test: {
    // Worker threads that tests start resolve packages by Node, not by Vite: they need the condition as well.
    execArgv: conditions.map((condition) => `--conditions=${condition}`),
    // Much of the time is waiting for servers and browsers: also on two processors two files at once take half of it.
    maxWorkers: 2,
    globalSetup: 'test/support/before-all.ts',
    include: ['packages/*/src/**/*.test.ts', 'test/**/*.test.ts'],
    typecheck: { enabled: true, include: ['packages/*/src/**/*.test-d.ts'], tsconfig: 'tsconfig.json' },
    // These end a test that hangs. A busy machine stands still for a minute, so no test has a limit of its own.
    testTimeout: 300_000,
    hookTimeout: 300_000,
    expect: { poll: { timeout: 120_000, interval: 20 } },
  },
});
