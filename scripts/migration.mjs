// npm run migration -- system|environment <name>: writes a migration from the changed table definitions.
import { join } from 'node:path';
import { root, run } from './prepare.mjs';

const [part, name] = process.argv.slice(2);
if (!['system', 'environment'].includes(part) || !/^[a-z][a-z0-9_]*$/.test(name ?? '')) {
  process.stderr.write('Usage: npm run migration -- system|environment <name_in_small_letters>\n');
  process.exit(2);
}
run('npx', ['drizzle-kit', 'generate', '--name', name], {
  cwd: join(root, 'packages/service'),
  env: { ...process.env, ORCHARD_MIGRATION_PART: part },
});
