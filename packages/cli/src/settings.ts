/** What the command remembers: where it is signed in, and where you work. */
import { mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { homedir } from 'node:os';
import { dirname, join } from 'node:path';
import { surroundings } from './surroundings.js';

export type Profile = { address: string; email: string; token: string; app?: string; environment?: string };
export type Settings = { current: string; profiles: Record<string, Profile> };

/** A profile by name; names are user input. */
export const profileOf = ({ profiles }: Settings, name: string): Profile | undefined =>
  Object.hasOwn(profiles, name) ? profiles[name] : undefined;

/** XDG Base Directory: $XDG_CONFIG_HOME, else ~/.config. */
export const settingsDirectory = (): string => join(surroundings().env.XDG_CONFIG_HOME || join(homedir(), '.config'), 'orchard');
const path = () => join(settingsDirectory(), 'settings.json');

export function readSettings(): Settings {
  try {
    return JSON.parse(readFileSync(path(), 'utf8'));
  } catch {
    return { current: 'default', profiles: {} };
  }
}

/** Readable by nobody else: it holds the member token. */
export function writeSettings(settings: Settings): void {
  mkdirSync(dirname(path()), { recursive: true, mode: 0o700 });
  writeFileSync(`${path()}.new`, JSON.stringify(settings, null, 2), { mode: 0o600 });
  renameSync(`${path()}.new`, path());
}
