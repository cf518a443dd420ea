/** Checks the chains of audit entries, and writes their heads to the log. */
import type { AuditChain, AuditHead } from '@orchard/contract';
import { entriesOf, readHead } from '../../platform/audit/auditStore.js';
import { ChainCheck, EMPTY, type NotedHead } from '../../platform/audit/chain.js';
import type { Platform } from '../../platform/platform.js';
import { allPlaces, type Place } from './entryList.js';

const headOf = ({ id, environment }: Place, { number, mac }: NotedHead): AuditHead => ({
  database: id,
  app: environment?.app ?? null,
  environment: environment?.name ?? null,
  number,
  mac,
});

export async function readHeads(parts: Platform): Promise<AuditHead[]> {
  const heads: AuditHead[] = [];
  for (const place of await allPlaces(parts)) heads.push(headOf(place, (await readHead(place.db)) ?? EMPTY));
  return heads;
}

/**
 * Checks every chain from its first entry.
 * @param noted heads from earlier; one of a database that is gone is ignored
 */
export async function verifyAll(parts: Platform, noted: readonly (NotedHead & { database: string })[]): Promise<AuditChain[]> {
  const chains: AuditChain[] = [];
  for (const place of await allPlaces(parts)) {
    const ofThis = noted.filter(({ database }) => database === place.id);
    chains.push(await verifyChain(parts, place, ofThis));
  }
  return chains;
}

/** Reads head and entries as they were at one moment: what is added meanwhile is not looked at. */
function verifyChain(parts: Platform, place: Place, noted: readonly NotedHead[]): Promise<AuditChain> {
  return place.db.transaction(async (on) => {
    const head = await readHead(place.db, on);
    const check = new ChainCheck(parts.audit.key, place.id, noted);
    for await (const entry of entriesOf(place.db, on)) check.take(entry);
    check.end(head);
    return { ...headOf(place, head ?? EMPTY), ok: check.faults.length === 0, faults: check.faults };
  });
}

/** Outside of the database, a head shows later whether entries up to it are still there. */
export async function logHeads(parts: Platform): Promise<void> {
  for (const { database, number, mac } of await readHeads(parts))
    if (number > 0) parts.log.info({ auditHead: { database, number, mac } }, 'head of the audit chain');
}
