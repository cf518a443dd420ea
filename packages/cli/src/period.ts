/** A period as commands take it: back from now, or from a time to a time. */
import type { Command } from 'commander';
import { CommandError } from './context.js';

const UNITS = { m: 60_000, h: 3_600_000, d: 86_400_000 } as const;

export type Period = { since: string; from?: string; until?: string };

/** Adds the options of a period. */
export const withPeriod = (command: Command, since = '24h'): Command =>
  command
    .option('--since <duration>', 'such as 30m, 24h, 7d', since)
    .option('--from <time>', 'instead of --since, such as 2026-11-18T00:00Z')
    .option('--until <time>', 'with --from; by default now');

export function periodOf({ since, from, until }: Period): { from: string; until: string } {
  const end = until ? timeOf(until) : Date.now();
  return { from: new Date(from ? timeOf(from) : end - duration(since)).toISOString(), until: new Date(end).toISOString() };
}

/** A duration such as 30m, 24h or 7d, in milliseconds. */
function duration(text: string): number {
  const match = /^(\d{1,4})([mhd])$/.exec(text);
  if (!match) throw new CommandError(`\`${text}\` is not a duration. Write one such as 30m, 24h or 7d.`, 2);
  return Number(match[1]) * UNITS[match[2] as keyof typeof UNITS];
}

export function timeOf(text: string): number {
  const at = Date.parse(text);
  if (Number.isNaN(at)) throw new CommandError(`\`${text}\` is not a time. Write one such as 2026-11-18T00:00Z.`, 2);
  return at;
}
