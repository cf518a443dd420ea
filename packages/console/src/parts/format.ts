/** Numbers, durations and paths as the console writes them. */

import { counted } from '@orchard/contract';

export { counted };
export const count = (number: number) => number.toLocaleString('en-GB');
export const milliseconds = (ms: number | null) =>
  ms === null
    ? '–'
    : ms < 10
      ? `${ms.toFixed(1)} ms`
      : ms < 10_000
        ? `${Math.round(ms).toLocaleString('en-GB')} ms`
        : `${(ms / 1000).toFixed(1)} s`;

/** A path with its percent-encoding decoded, where it is well formed. */
export function readable(path: string): string {
  try {
    return decodeURIComponent(path);
  } catch {
    return path;
  }
}

/** `980 bytes`, `12 kB`, `1.4 MB`, in powers of ten. */
export function bytes(size: number): string {
  if (size < 1e3) return `${size} bytes`;
  return size < 1e6
    ? `${Math.round(size / 1e3).toLocaleString('en-GB')} kB`
    : `${(size / 1e6).toLocaleString('en-GB', { maximumFractionDigits: 1 })} MB`;
}

const UNITS = [
  ['day', 86_400],
  ['hour', 3600],
  ['minute', 60],
  ['second', 1],
] as const;

/** The longest unit that divides a duration: `24 hours` rather than `1 day` below two days, `90 seconds`. */
export function duration(seconds: number): string {
  const [unit, length] = UNITS.find(([, size]) => seconds % size === 0 && seconds >= (size === 86_400 ? 2 * size : size)) ?? ['second', 1];
  return counted(seconds / length, unit);
}

/** The name of a member as a label: `systemId` → `System id`. */
export function inWords(name: string): string {
  const words = name.replace(/[A-Z]/g, (letter) => ` ${letter.toLowerCase()}`);
  return words.charAt(0).toUpperCase() + words.slice(1);
}

/** What a user agent says of itself, in a few words: `Firefox 140 on Linux`. */
export function agentWords(userAgent: string): string {
  const [, name, version] = /(Firefox|Edg|OPR|Chromium|Chrome|HeadlessChrome|Version)\/(\d+)/.exec(userAgent) ?? [];
  // Android says that it is a Linux as well.
  const [system] = /Android|Windows|iPhone|iPad|Mac OS X|CrOS/.exec(userAgent) ?? /Linux/.exec(userAgent) ?? [];
  const words = name && `${NAMES[name] ?? name} ${version}`;
  return words ? [words, system].filter(Boolean).join(' on ') : userAgent.slice(0, 60);
}
const NAMES: Record<string, string> = { Edg: 'Edge', OPR: 'Opera', HeadlessChrome: 'Chrome', Version: 'Safari' };
