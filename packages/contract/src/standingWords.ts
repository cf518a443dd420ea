import type { StandingDefinition } from './operations/standing.js';

const counted = (number: number, one: string) => `${number} ${one}${number === 1 ? '' : 's'}`;

/** When a standing notification is sent: `1 day before arrives, at 18:00 where each person is`. */
export function standingWords({
  field,
  daysBefore,
  at,
  minutesBefore,
  zone,
}: Pick<StandingDefinition, 'field' | 'daysBefore' | 'at' | 'minutesBefore' | 'zone'>): string {
  const by = daysBefore ?? minutesBefore ?? 0;
  const length = counted(Math.abs(by), daysBefore === undefined ? 'minute' : 'day');
  const start = by === 0 ? `when ${field} is` : `${length} ${by < 0 ? 'after' : 'before'} ${field}`;
  return at ? `${start}, at ${at} ${zone ? `in ${zone}` : 'where each person is'}` : start;
}
