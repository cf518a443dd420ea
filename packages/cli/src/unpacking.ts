/** Reads a backup without the service: decrypts its records, and writes them as `orchard record import` reads them. */
import { createDecipheriv, createHash, hkdfSync, pbkdf2Sync } from 'node:crypto';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { gunzipSync } from 'node:zlib';
import { type ArchiveManifest, type ArchivePart, type ArchiveTable, archiveManifest } from '@orchard/contract';
import { CommandError } from './context.js';

/** `Salted__`, and eight bytes of salt: the header of `openssl enc`. */
const HEADER = 16;
type Value = string | number | null;
/** Types of fields, by name. */
type Fields = ReadonlyMap<string, string>;

export type Unpacked = { collection: string; records: number; file: string };

/**
 * @param backup its folder, with `manifest.json`; the objects stand beside it
 * @throws {CommandError} for a wrong key, and for what is damaged or missing
 */
export function unpack(backup: string, keyFile: string, to: string): Unpacked[] {
  const manifest = readManifest(backup);
  const key = readFileSync(keyFile, 'utf8').trim().toLowerCase();
  const mark = Buffer.from(hkdfSync('sha256', Buffer.from(key, 'hex'), '', 'backup mark', 32))
    .toString('hex')
    .slice(0, 12);
  if (mark !== manifest.key) throw new CommandError(`The backup was made with the key ${manifest.key}; ${keyFile} has ${mark}.`, 1);
  const read = (part: ArchivePart) => linesOf(join(backup, '..', 'objects'), part, key);
  const structures = new Map(
    read(manifest.structure).map((line) => {
      const { name, create } = JSON.parse(line) as { name: string; create: string };
      return [name, create];
    }),
  );
  mkdirSync(to, { recursive: true });
  return manifest.tables
    .filter(({ collection }) => collection)
    .map((table) => {
      const fields = fieldsOf(structures.get(table.name) ?? '');
      const file = join(to, `${table.name}.ndjson`);
      writeFileSync(file, '');
      for (const part of table.parts) {
        const records = read(part).map((line) => `${JSON.stringify(recordOf(table, fields, JSON.parse(line) as Value[]))}\n`);
        writeFileSync(file, records.join(''), { flag: 'a' });
      }
      return { collection: table.name, records: table.rows, file };
    });
}

function readManifest(backup: string): ArchiveManifest {
  const checked = archiveManifest.safeParse(JSON.parse(readFileSync(join(backup, 'manifest.json'), 'utf8')));
  if (!checked.success) throw new CommandError(`${backup} is no backup that this version can read.`, 1);
  return checked.data;
}

/** As `openssl enc -d -aes-256-cbc -pbkdf2 -iter 1` does, and `gunzip` after it. */
function linesOf(objects: string, { object, sha256 }: ArchivePart, key: string): string[] {
  const sealed = readFileSync(join(objects, object.slice(0, 2), object));
  const derived = pbkdf2Sync(key, sealed.subarray(8, HEADER), 1, 48, 'sha256');
  const decipher = createDecipheriv('aes-256-cbc', derived.subarray(0, 32), derived.subarray(32));
  const content = gunzipSync(Buffer.concat([decipher.update(sealed.subarray(HEADER)), decipher.final()]));
  if (createHash('sha256').update(content).digest('hex') !== sha256) throw new CommandError(`The object ${object} is damaged.`, 1);
  return content.toString().split('\n').filter(Boolean);
}

/** A field's type is the comment of its column. */
function fieldsOf(create: string): Fields {
  const fields = new Map<string, string>();
  for (const [, name, comment] of create.matchAll(/^\s*`([^`]+)` .* COMMENT '((?:[^']|'')*)'(?: CHECK .*)?,?$/gm)) {
    const [type] = (comment as string).split(' ');
    if (!name?.startsWith('_')) fields.set(name as string, type as string);
  }
  return fields;
}

function recordOf(table: ArchiveTable, fields: Fields, values: readonly Value[]): Record<string, unknown> {
  const record: Record<string, unknown> = {};
  for (const [i, { name }] of table.columns.entries()) {
    const value = values[i] ?? null;
    if (name === 'id' || name === 'ownerId') record[name] = value;
    else if (fields.has(name)) record[name] = fieldValue(fields.get(name) as string, value);
  }
  return record;
}

function fieldValue(type: string, value: Value): unknown {
  if (value === null) return null;
  switch (type) {
    case 'boolean':
      return value !== 0 && value !== '0';
    case 'integer':
    case 'number':
      return Number(value);
    case 'time':
      return `${String(value).replace(' ', 'T')}Z`;
    case 'list':
    case 'object':
      return JSON.parse(String(value));
    case 'place':
      return placeOf(String(value));
    default:
      return value;
  }
}

/** SRID with four bytes, then the WKB of a point in little-endian order: order, type, x, y (OGC 06-103r4 section 8.2.8). */
function placeOf(hex: string): object {
  const bytes = Buffer.from(hex, 'hex');
  return { type: 'Point', coordinates: [bytes.readDoubleLE(9), bytes.readDoubleLE(17)] };
}
