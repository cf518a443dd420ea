import { defineConfig } from 'vitest/config';

export default defineConfig({
  test: {
    include: ['packages/*/test/**/*.test.ts'],
    globalSetup: ['packages/service/test/databaseServer.ts'],
    testTimeout: 120_000,
    hookTimeout: 240_000,
    // What a test waits for takes longer while the other one has both cores; one second, the default, is often too short.
    expect: { poll: { timeout: 20_000 } },
    // Two cores: one file more than that at once only makes them wait for each other.
    maxWorkers: 2,
    // Files share their worker's modules: to import them for each file anew took a sixth of the run.
    isolate: false,
  },
});
