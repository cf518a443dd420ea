/** Who of the team is on call: turns that follow each other at a local time of the day, and replacements for a day. */
import { instantOf, wallMs } from './messages/dueTimes.js';

export type Rota = {
  name: string;
  /** IANA. */
  timeZone: string;
  /** Ids of members, in turn. */
  members: string[];
  /** The local day on which the first one began, `2026-11-23`. */
  startsOn: string;
  /** Local time of the hand-over, `09:00`. */
  handOver: string;
  /** Length of a turn. */
  days: number;
  /** Somebody else for the day that begins with the hand-over on this date. */
  replacements: { date: string; member: string }[];
};

const DAY_MS = 86_400_000;
const MINUTE_MS = 60_000;
const minutesOf = (clock: string): number => Number(clock.slice(0, 2)) * 60 + Number(clock.slice(3, 5));
const dayText = (day: number): string => new Date(day * DAY_MS).toISOString().slice(0, 10);

export type Duty = {
  /** Id of the member; null before the first turn, and without members. */
  member: string | null;
  replaces: string | null;
  /** When the next one takes over, milliseconds since 1970. */
  until: number;
};

/** Who is on call at an instant. A day begins with the hand-over, by the clock of the zone, in summer and in winter. */
export function onCallAt({ timeZone, members, startsOn, handOver, days, replacements }: Rota, at: number): Duty {
  const minutes = minutesOf(handOver);
  const day = Math.floor((wallMs(at, timeZone) - minutes * MINUTE_MS) / DAY_MS);
  const since = day - Date.parse(startsOn) / DAY_MS;
  const beginsAt = (of: number) => instantOf(of * DAY_MS + minutes * MINUTE_MS, timeZone);
  const turn = Math.floor(since / days);
  const usual = since < 0 || members.length === 0 ? null : (members[turn % members.length] as string);
  const instead = replacements.find(({ date }) => date === dayText(day));
  const turnEnds = day - (((since % days) + days) % days) + days;
  // A replacement, today's or one to come, ends somebody's duty before the turn does.
  const nextReplaced = replacements.map(({ date }) => Date.parse(date) / DAY_MS).filter((one) => one > day && one < turnEnds);
  const until = beginsAt(instead ? day + 1 : Math.min(turnEnds, ...nextReplaced));
  return { member: instead?.member ?? usual, replaces: instead ? usual : null, until };
}
