/** Environments of earlier versions, and those whose database came from elsewhere, are brought to this version. */
import { grouped } from '@orchard/core';
import type { Environment } from './call.js';
import type { Capability, Upgrade } from './capability.js';
import { migrateEnvironment, outdated } from './database/migrate.js';
import { haveFormerRows } from './database/formerRows.js';
import { takeOverJobs } from './jobs/formerJobs.js';
import { formerJobs } from './jobs/systemTables.js';
import { hasOldTriggers, TRIGGER_FORMAT } from './live/tables.js';
import type { Platform } from './platform.js';
import { forEachEnvironment, guarded } from './upkeep.js';

/** Migrates the tables of every environment, and runs the rooms' upgrades there. */
export async function bringUpToDate(platform: Platform, capabilities: readonly Capability[]): Promise<void> {
  const all = await platform.directory.allEnvironments();
  await forEachEnvironment(platform, 'migrate an environment', await outdated(all), ({ db }) => migrateEnvironment(db));
  const upgrades = await neededUpgrades(platform, capabilities, all);
  await forEachEnvironment(platform, 'upgrade an environment', [...upgrades.keys()], async (environment) => {
    for (const { run } of upgrades.get(environment) as Upgrade[]) await run(environment);
  });
  // What is not resumed here, the sweep finds.
  await guarded(platform, 'resume jobs', {}, () => platform.jobs.resume(all));
}

/** The same for one environment whose database came from elsewhere. @throws {Problem} whatever an upgrade throws */
export async function bringBack(platform: Platform, capabilities: readonly Capability[], environment: Environment): Promise<void> {
  await migrateEnvironment(environment.db);
  const upgrades = await neededUpgrades(platform, capabilities, [environment]);
  for (const { run } of upgrades.get(environment) ?? []) await run(environment);
  await platform.jobs.resume([environment]);
}

/** The upgrades that each environment needs, in their order. */
async function neededUpgrades(
  { database, directory }: Platform,
  capabilities: readonly Capability[],
  environments: readonly Environment[],
): Promise<Map<Environment, Upgrade[]>> {
  const all: Upgrade[] = [
    { needed: (of) => haveFormerRows(database, formerJobs, of), run: (one) => takeOverJobs(database, one) },
    ...capabilities.flatMap(({ upgrade }) => (upgrade ? [upgrade] : [])),
    { needed: async (of) => of.filter(hasOldTriggers), run: (one) => directory.noteTriggers(one, TRIGGER_FORMAT) },
  ];
  const needed = await Promise.all(all.map(async (upgrade) => (await upgrade.needed(environments)).map((one) => ({ one, upgrade }))));
  return new Map([...grouped(needed.flat(), ({ one }) => one)].map(([one, of]) => [one, of.map(({ upgrade }) => upgrade)]));
}
