/** Log entries of apps: checked, masked and stored before the call is answered. */
import type { NewLogEntry } from '@orchard/contract';
import { maskSecrets, plainText, versionOf } from '@orchard/core';
import { type Call, environmentOf } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { countError } from './errorStore.js';
import type { Levels } from './levels.js';
import type { SourceMaps } from './sourceMaps.js';
import { insertEntries, levelNumber, type LogRow } from './logStore.js';

const TEXT = 4_000;
const FIELDS = 8_000;
/** A phone's clock can be anything; beyond this, the time of arrival counts. */
const [OLDEST_MS, AHEAD_MS] = [7 * 86_400_000, 5 * 60_000];

type Parts = Platform & { levels: Levels; sourceMaps: SourceMaps };
type Intake = Pick<Call, 'environment' | 'holder' | 'user' | 'headers'> & { body: { entries: NewLogEntry[] } };

export async function takeEntries(parts: Parts, call: Intake): Promise<{ kept: number; below: number }> {
  const environment = environmentOf(call);
  const source = `app ${call.holder?.client.name ?? ''}`.trim();
  const { entries } = call.body;
  const kept = entries.filter(({ level }) => parts.levels.keeps(environment, source, level));
  const rows: LogRow[] = [];
  // Of entries of one millisecond, the order of their ids is the order in which they were brought.
  const ids = kept.map(() => parts.newId()).sort();
  for (const [i, entry] of kept.entries()) rows.push({ ...(await rowOf(parts, call, source, entry)), id: ids[i] as string });
  await insertEntries(environment.db, rows);
  if (rows.length > 0) parts.changes.wake(environment.id);
  return { kept: rows.length, below: entries.length - rows.length };
}

async function rowOf(
  parts: Parts,
  call: Intake,
  source: string,
  { at, level, text, fields, trace, error }: NewLogEntry,
): Promise<Omit<LogRow, 'id'>> {
  const now = parts.now();
  const given = at === undefined ? now : Date.parse(at);
  const time = new Date(given < now - OLDEST_MS || given > now + AHEAD_MS ? now : given);
  const deviceId = (call.headers['orchard-device'] as string | undefined)?.slice(0, 64) ?? null;
  const version = (error?.version ?? versionOf(call.headers['user-agent'] ?? ''))?.slice(0, 40) ?? null;
  const userId = call.user?.id ?? null;
  const person = userId ? `u:${userId}` : deviceId ? `d:${deviceId}` : null;
  const stack = error?.stack && (await parts.sourceMaps.readable(environmentOf(call), maskSecrets(error.stack), version));
  const masked = error && { name: clean(error.name, 200), message: clean(error.message, TEXT), stack };
  const group = masked ? await countError(environmentOf(call), parts.newId, { error: masked, version, person, at: time }) : null;
  const all = masked?.stack ? { ...fields, stack: masked.stack } : fields;
  return {
    at: time,
    level: levelNumber(level),
    source,
    text: clean(text || [masked?.name, masked?.message].filter(Boolean).join(': '), TEXT),
    fields: fieldsOf(all),
    trace: trace ?? null,
    deviceId: deviceId && maskSecrets(deviceId),
    userId,
    version,
    error: group,
  };
}

const clean = (text: string, most: number): string => plainText(maskSecrets(text), most);

/** Fields that are too many are kept as a text that says so. */
export function fieldsOf(fields: object | undefined): string | null {
  if (!fields || Object.keys(fields).length === 0) return null;
  const text = maskSecrets(JSON.stringify(fields));
  return text.length <= FIELDS ? text : JSON.stringify({ cut: plainText(text, FIELDS - 100) });
}
