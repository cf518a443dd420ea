import { defineConfig } from 'drizzle-kit';

// Which of the two schemas is meant comes from scripts/migration.mjs.
const part = process.env.ORCHARD_MIGRATION_PART === 'environment' ? 'environment' : 'system';
export default defineConfig({ dialect: 'mysql', schema: `./src/platform/database/${part}Tables.ts`, out: `./migrations/${part}` });
