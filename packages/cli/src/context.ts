/** What a command works with: the global options, the signed-in client, the environment. */
import { createHttpClient, type HttpClient } from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError } from './commandError.js';
import { confirming } from './confirming.js';
import { profileOf, readSettings } from './settings.js';
import { surroundings } from './surroundings.js';

export { CommandError } from './commandError.js';

export type GlobalOptions = { app?: string; env?: string; profile?: string; json?: boolean; csv?: boolean; quiet?: boolean };

export const globalsOf = (command: Command): GlobalOptions => command.optsWithGlobals<GlobalOptions>();

/** An automation token in the environment, for scripts: it goes before what was saved at a sign-in. */
function automation(): { address: string; token: string } | null {
  const { ORCHARD_TOKEN: token, ORCHARD_ADDRESS: address } = surroundings().env;
  if (!token) return null;
  if (!address || !URL.canParse(address))
    throw new CommandError('ORCHARD_TOKEN is set; set ORCHARD_ADDRESS too, such as https://orchard.quillfell.example.', 2);
  return { address: new URL(address).origin, token };
}

export function signedIn(options: GlobalOptions): { client: HttpClient; profile: string } {
  const script = options.profile ? null : automation();
  if (script) return { profile: '', client: clientOf(script) };
  const settings = readSettings();
  const name = options.profile ?? settings.current;
  const profile = profileOf(settings, name);
  if (!profile)
    throw new CommandError(
      options.profile
        ? `There is no profile ${name}. Run \`orchard --profile ${name} sign-in <address>\`, or see \`orchard profile list\`.`
        : 'You are not signed in. Run `orchard sign-in <address>` first.',
      3,
    );
  return { profile: name, client: confirming(clientOf(profile)) };
}

const clientOf = ({ address, token }: { address: string; token: string }): HttpClient =>
  createHttpClient({ address, headers: () => ({ authorization: `Bearer ${token}` }) });

/** App and environment: from the options, else what `orchard use` remembers. */
export function environmentOf(options: GlobalOptions): { app: string; environment: string } {
  const settings = readSettings();
  const remembered = profileOf(settings, options.profile ?? settings.current);
  const app = options.app ?? remembered?.app;
  const environment = options.env ?? remembered?.environment;
  if (!app || !environment)
    throw new CommandError('No environment is chosen. Run `orchard use <app>/<environment>`, or give --app and --env.', 2);
  return { app, environment };
}

/** What a command on an environment needs: its options, the signed-in client, the environment as path parameters. */
export function workspace(command: Command): { options: GlobalOptions; client: HttpClient; params: { app: string; environment: string } } {
  const options = globalsOf(command);
  return { options, client: signedIn(options).client, params: environmentOf(options) };
}
