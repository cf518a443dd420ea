import { defineConfig } from 'vitest/config';

export default defineConfig({
  test: {
    include: ['packages/*/test/**/*.test.ts'],
    globalSetup: ['packages/service/test/databaseServer.ts'],
    testTimeout: 120_000,
    hookTimeout: 240_000,
    // Two cores: one file more than that at once only makes them wait for each other.
    maxWorkers: 2,
  },
});
