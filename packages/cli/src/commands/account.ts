import { createHttpClient, operations } from '@orchard/contract';
import type { Command } from 'commander';
import { ask, askSecret } from '../asking.js';
import { CommandError, globalsOf, signedIn } from '../context.js';
import { note } from '../output.js';
import { readSettings, writeSettings } from '../settings.js';

export function addAccountCommands(program: Command): void {
  program
    .command('sign-in')
    .description('sign in to a service as a member')
    .argument('<address>', 'base address, such as http://127.0.0.1:7450')
    .option('--email <address>', 'your e-mail address')
    .option('--password-stdin', 'read the password from standard input')
    .action(async (address: string, own: { email?: string; passwordStdin?: boolean }, command: Command) => {
      const options = globalsOf(command);
      if (!URL.canParse(address) || !/^https?:/.test(address))
        throw new CommandError(`${address} is not an address. Give one such as http://127.0.0.1:7450.`, 2);
      const base = new URL(address).origin;
      const email = own.email ?? (await ask('E-mail address: '));
      const password = own.passwordStdin ? await ask('') : await askSecret('Password: ');
      const { token, member } = await createHttpClient({ address: base }).call(operations.members.signIn, {
        body: { email, password, as: 'token' },
      });
      const settings = readSettings();
      const name = options.profile ?? settings.current;
      const before = settings.profiles[name];
      const place = before?.address === base ? { app: before.app, environment: before.environment } : {};
      writeSettings({
        current: name,
        profiles: { ...settings.profiles, [name]: { address: base, email: member.email, token: token as string, ...place } as never },
      });
      note(`Signed in to ${base} as ${member.name}.`, options);
    });

  program
    .command('sign-out')
    .description('end the session and forget its token')
    .action(async (_own: object, command: Command) => {
      const options = globalsOf(command);
      const { client, profile } = signedIn(options);
      await client.call(operations.members.signOut, {}).catch(() => undefined);
      const settings = readSettings();
      delete settings.profiles[profile];
      writeSettings(settings);
      note('Signed out.', options);
    });

  program
    .command('use')
    .description('remember where you work')
    .argument('<app/environment>', 'such as quillfell-hiker/dev')
    .action(async (place: string, _own: object, command: Command) => {
      const options = globalsOf(command);
      const [app, environment, ...rest] = place.split('/');
      if (!app || !environment || rest.length > 0)
        throw new CommandError(`\`${place}\` names no environment. Write it as app/environment, such as quillfell-hiker/dev.`, 2);
      const { client, profile } = signedIn(options);
      await client.call(operations.environments.read, { params: { app, environment } });
      const settings = readSettings();
      const known = settings.profiles[profile];
      if (known) settings.profiles[profile] = { ...known, app, environment };
      writeSettings(settings);
      note(`You work in ${app}/${environment} now.`, options);
    });
}
