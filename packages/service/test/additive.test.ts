/**
 * Migrations as instances of the version before live with them: while a cluster is upgraded, the two versions stand side by side
 * on the same tables. What the version before reads and writes stays; what is new has a default.
 */
import { readdirSync, readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { expect, it } from 'vitest';

const MIGRATIONS = fileURLToPath(new URL('../migrations', import.meta.url));
/** The first migration of each kind since instances are upgraded one after another. */
const SINCE = { environment: 15, system: 7 } as const;
/** Columns that became wider: values of the version before fit. */
const WIDER = [
  'ALTER TABLE `_users` MODIFY COLUMN `email` varchar(254)',
  'ALTER TABLE `_outsideSignIns` MODIFY COLUMN `verifier` text NOT NULL',
  'ALTER TABLE `_credentials` MODIFY COLUMN `verifier` varchar(2000) NOT NULL',
  'ALTER TABLE `memberCredentials` MODIFY COLUMN `verifier` varchar(2000) NOT NULL',
];

function statements(kind: keyof typeof SINCE): [file: string, statement: string][] {
  return readdirSync(`${MIGRATIONS}/${kind}`)
    .filter((file) => file.endsWith('.sql') && Number(file.slice(0, 4)) >= SINCE[kind])
    .flatMap((file) =>
      readFileSync(`${MIGRATIONS}/${kind}/${file}`, 'utf8')
        .split('--> statement-breakpoint')
        .map((statement): [string, string] => [file, statement.trim().replace(/;$/, '')])
        .filter(([, statement]) => statement !== ''),
    );
}

/** What an instance of the version before would stumble over; null where it would not. */
function hindrance(statement: string, made: ReadonlySet<string>): string | null {
  if (/^CREATE TABLE /i.test(statement) || WIDER.includes(statement)) return null;
  if (/^CREATE (FULLTEXT |SPATIAL )?INDEX /i.test(statement)) return null;
  const table = /`(\w+)`(?=\s*\(|$| ADD|\s+ADD)/.exec(statement)?.[1] ?? '';
  if (/^CREATE UNIQUE INDEX /i.test(statement))
    return made.has(/ ON `(\w+)`/.exec(statement)?.[1] ?? '') ? null : 'a rule that rows of the version before may break';
  if (/^ALTER TABLE `\w+` ADD CONSTRAINT /i.test(statement))
    return made.has(table) ? null : 'a rule that rows of the version before may break';
  if (/^ALTER TABLE `\w+` ADD `\w+` /i.test(statement))
    return /NOT NULL/i.test(statement) && !/DEFAULT/i.test(statement) ? 'a column that the version before does not fill' : null;
  if (/^(INSERT|UPDATE) /i.test(statement)) return null;
  return 'something that the version before uses may go or change its name';
}

it.each(['environment', 'system'] as const)('of the kind %s leave everything in place that the version before uses', (kind) => {
  const made = new Set<string>();
  const found: string[] = [];
  for (const [file, statement] of statements(kind)) {
    const table = /^CREATE TABLE `(\w+)`/.exec(statement)?.[1];
    if (table) made.add(table);
    const words = hindrance(statement, made);
    if (words) found.push(`${file}: ${words}: ${statement.slice(0, 120)}`);
  }
  expect(found).toEqual([]);
});

it.each([
  ['ALTER TABLE `_users` DROP COLUMN `email`'],
  ['ALTER TABLE `_users` RENAME COLUMN `email` TO `mail`'],
  ['ALTER TABLE `_users` ADD `colour` varchar(9) NOT NULL'],
  ['CREATE UNIQUE INDEX `users_phone` ON `_users` (`phone`)'],
  ['DROP TABLE `_users`'],
])('would be refused: %s', (statement) => {
  expect(hindrance(statement, new Set())).not.toBeNull();
});
