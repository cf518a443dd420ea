/** How the installation itself is: its database, its disk, its jobs, and the certificates of its gateways. */
import { statfs } from 'node:fs/promises';
import type { InstallationCondition } from '@orchard/contract';
import { durationWords, type EnvironmentCondition, worstOf } from '@orchard/core';
import { backlogSql } from '../../platform/jobs/jobStore.js';
import type { Platform } from '../../platform/platform.js';
import { slowestPing } from './installationStore.js';

type Check = InstallationCondition['checks'][number];

/** A ping of the database: from here on it is slow, or hardly answers. */
const PING_MS = { stressed: 250, failing: 2_000 } as const;
/** Free share of the disk of the data directory. */
const FREE = { stressed: 0.1, failing: 0.03 } as const;
/** Age of the oldest due job of the installation, which recur every few seconds. */
const JOB_MS = { stressed: 120_000, failing: 600_000 } as const;
/** A database that refused a write for want of room is full until it has been well for so long. */
const FULL_MS = 5 * 60_000;
const DAY_MS = 86_400_000;
const CERTIFICATE_MS = { stressed: 7 * DAY_MS, failing: DAY_MS } as const;

/** Higher is worse. */
const levelFrom = (value: number, { stressed, failing }: { stressed: number; failing: number }): EnvironmentCondition =>
  value > failing ? 'failing' : value > stressed ? 'stressed' : 'thriving';

export async function checkInstallation(parts: Platform): Promise<Check[]> {
  return Promise.all([checkDatabase(parts), checkDisk(parts), checkJobs(parts), checkCertificates(parts)]);
}

export const conditionOfChecks = (checks: readonly Check[]): EnvironmentCondition => worstOf(checks.map(({ condition }) => condition));

async function checkDatabase({ servers, now }: Platform): Promise<Check> {
  const { fullAt } = servers;
  if (fullAt !== null && now() - fullAt < FULL_MS) {
    const text = `The disk of the database is full: it refused a write at ${new Date(fullAt).toISOString().slice(11, 16)} UTC.`;
    return { check: 'database', condition: 'failing', text };
  }
  const slowest = await slowestPing(servers.all);
  const condition = levelFrom(slowest, PING_MS);
  return { check: 'database', condition, text: `The database answers in ${Math.max(1, Math.round(slowest))} ms.` };
}

async function checkDisk({ config }: Platform): Promise<Check> {
  const { bavail, blocks, bsize } = await statfs(config.dataDirectory);
  const free = blocks > 0 ? bavail / blocks : 1;
  const condition = levelFrom(1 - free, { stressed: 1 - FREE.stressed, failing: 1 - FREE.failing });
  const gigabytes = (bavail * bsize) / 1e9;
  return {
    check: 'disk',
    condition,
    text: `The disk of the data directory has ${gigabytes.toFixed(1)} GB free, ${(free * 100).toFixed(0)} %.`,
  };
}

async function checkJobs({ servers }: Platform): Promise<Check> {
  const rows = await servers.installation.runRows<{ kind: string; ms: number }>(backlogSql(servers.installation));
  const oldest = rows.sort((a, b) => Number(b.ms) - Number(a.ms))[0];
  const ageMs = Math.round(Number(oldest?.ms ?? 0) / 1000) * 1000;
  const text =
    oldest && ageMs > 0
      ? `The oldest due job of the installation, ${oldest.kind}, has waited ${durationWords(ageMs)}.`
      : 'No job of the installation waits.';
  return { check: 'jobs', condition: levelFrom(ageMs, JOB_MS), text };
}

async function checkCertificates({ ports, now }: Platform): Promise<Check> {
  const ending = (await ports.certificates()).sort((a, b) => a.expiresAt.getTime() - b.expiresAt.getTime())[0];
  if (!ending) return { check: 'certificates', condition: 'thriving', text: 'No gateway has a certificate.' };
  const left = ending.expiresAt.getTime() - now();
  const condition = left < CERTIFICATE_MS.failing ? 'failing' : left < CERTIFICATE_MS.stressed ? 'stressed' : 'thriving';
  const when = left < 0 ? 'has expired' : `expires on ${ending.expiresAt.toISOString().slice(0, 10)}`;
  return {
    check: 'certificates',
    condition,
    text: `The first certificate to end, of gateway ${ending.gateway} in ${ending.place}, ${when}.`,
  };
}
