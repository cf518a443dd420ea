/** What a command works with: the options that hold everywhere, the signed-in client, the place. */
import { createHttpClient, type HttpClient } from '@orchard/contract';
import type { Command } from 'commander';
import { profileOf, readSettings } from './settings.js';

export type GlobalOptions = { app?: string; env?: string; profile?: string; json?: boolean; csv?: boolean; quiet?: boolean };

/** A refusal of the command itself. `code`: 1 failed, 2 used wrongly, 3 not signed in, 5 not found. */
export class CommandError extends Error {
  constructor(
    message: string,
    readonly code: 1 | 2 | 3 | 5,
  ) {
    super(message);
  }
}

export const globalsOf = (command: Command): GlobalOptions => command.optsWithGlobals<GlobalOptions>();

export function signedIn(options: GlobalOptions): { client: HttpClient; profile: string } {
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
  return {
    profile: name,
    client: createHttpClient({ address: profile.address, headers: () => ({ authorization: `Bearer ${profile.token}` }) }),
  };
}

/** App and environment: from the options, else what `orchard use` remembers. */
export function placeOf(options: GlobalOptions): { app: string; environment: string } {
  const settings = readSettings();
  const remembered = profileOf(settings, options.profile ?? settings.current);
  const app = options.app ?? remembered?.app;
  const environment = options.env ?? remembered?.environment;
  if (!app || !environment)
    throw new CommandError('No environment is chosen. Run `orchard use <app>/<environment>`, or give --app and --env.', 2);
  return { app, environment };
}

/** What a command on an environment needs: its options, the signed-in client, the environment as path parameters. */
export function workplace(command: Command): { options: GlobalOptions; client: HttpClient; params: { app: string; environment: string } } {
  const options = globalsOf(command);
  return { options, client: signedIn(options).client, params: placeOf(options) };
}
