import { defineConfig } from 'drizzle-kit';

// Which of the two kinds of databases is meant comes from scripts/migration.mjs; each room brings its tables.
const isEnvironment = process.env.ORCHARD_MIGRATION_PART === 'environment';
export default defineConfig({
  dialect: 'mysql',
  schema: isEnvironment ? './src/*/*/tables.ts' : './src/*/*/systemTables.ts',
  out: `./migrations/${isEnvironment ? 'environment' : 'system'}`,
});
