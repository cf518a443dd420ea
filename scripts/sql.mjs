#!/usr/bin/env node
// Part of npm run check: a room's SQL stands in its store files (and those of its tables' shape), so that whoever changes a
// table finds every statement on it. A capability may hold marks, which are SQL by their nature.
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { root } from './prepare.mjs';

const ROOMS = ['data', 'people', 'messages', 'operations', 'setup'].map((group) => join(root, 'packages/service/src', group));
const HOLDS_SQL = /(^store|Store|Sql|Ddl|^tables|^columns|^capability)\.ts$/;
const STATEMENT =
  /[`'"(]\s*(SELECT |INSERT (IGNORE )?INTO |UPDATE `?\$|DELETE FROM |REPLACE INTO |ALTER TABLE |CREATE (TABLE|INDEX|OR REPLACE)|DROP (TABLE|INDEX))/;

function* files(folder) {
  for (const entry of readdirSync(folder, { withFileTypes: true })) {
    const path = join(folder, entry.name);
    if (entry.isDirectory()) yield* files(path);
    else if (entry.name.endsWith('.ts') && !HOLDS_SQL.test(entry.name)) yield path;
  }
}

const found = ROOMS.flatMap((folder) => [...files(folder)]).flatMap((path) =>
  readFileSync(path, 'utf8')
    .split('\n')
    .flatMap((line, i) => (STATEMENT.test(line) ? [`${path.slice(root.length)}:${i + 1} ${line.trim()}`] : [])),
);
for (const line of found) console.log(`SQL outside a store file: ${line}`);
process.exit(found.length === 0 ? 0 : 1);
