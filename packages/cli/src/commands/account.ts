import { createHttpClient, operations, Problem, type ReplyOf } from '@orchard/contract';
import type { Command } from 'commander';
import { ask, askSecret, readLine, readLines } from '../asking.js';
import { askCode } from '../confirming.js';
import { CommandError, globalsOf, signedIn } from '../context.js';
import { note, printList } from '../output.js';
import { profileOf, readSettings, writeSettings } from '../settings.js';

export function addAccountCommands(program: Command): void {
  program
    .command('sign-in')
    .description('sign in to a service as a member')
    .argument('<address>', 'base address, such as http://127.0.0.1:7450')
    .option('--email <address>', 'your e-mail address')
    .option('--password-stdin', 'read the password from standard input')
    .option('--code <code>', 'with a second factor: a code of your authenticator app, or a recovery code')
    .action(async (address: string, own: { email?: string; passwordStdin?: boolean; code?: string }, command: Command) => {
      const options = globalsOf(command);
      if (!URL.canParse(address) || !/^https?:/.test(address))
        throw new CommandError(`${address} is not an address. Give one such as http://127.0.0.1:7450.`, 2);
      const base = new URL(address).origin;
      const email = own.email ?? (await ask('E-mail address: ', '--email'));
      const password = own.passwordStdin ? await readLine() : await askSecret('Password: ');
      const { token, member } = await signIn(base, { email, password, code: own.code });
      const settings = readSettings();
      const name = options.profile ?? settings.current;
      const before = profileOf(settings, name);
      const place = before?.address === base ? { app: before.app, environment: before.environment } : {};
      // A further sign-in does not replace the default; the first one becomes the default.
      const current = profileOf(settings, settings.current) ? settings.current : name;
      writeSettings({
        current,
        profiles: { ...settings.profiles, [name]: { address: base, email: member.email, token: token as string, ...place } as never },
      });
      note(`Signed in to ${base} as ${member.name}.`, options);
      if (current !== name) note(`It is saved as profile ${name}: use --profile ${name}, or \`orchard profile use ${name}\`.`, options);
    });

  program
    .command('sign-out')
    .description('end the session and delete its token')
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
    .description('set the current environment')
    .argument('<app/environment>', 'such as quillfell-hiker/dev')
    .action(async (place: string, _own: object, command: Command) => {
      const options = globalsOf(command);
      const [app, environment, ...rest] = place.split('/');
      if (!app || !environment || rest.length > 0)
        throw new CommandError(`\`${place}\` is not an environment. Write it as app/environment, such as quillfell-hiker/dev.`, 2);
      const { client, profile } = signedIn(options);
      await client.call(operations.environments.read, { params: { app, environment } });
      const settings = readSettings();
      const known = profileOf(settings, profile);
      if (known) settings.profiles[profile] = { ...known, app, environment };
      writeSettings(settings);
      note(`Using ${app}/${environment}.`, options);
    });
  addProfileCommands(program);
  addPasswordCommand(program);
}

type Credentials = { email: string; password: string; code?: string | undefined };

/** Signs in; where a second factor is needed, asks for its code. */
async function signIn(address: string, { email, password, code }: Credentials): Promise<ReplyOf<typeof operations.members.signIn>> {
  const client = createHttpClient({ address });
  const call = (given: string | undefined) =>
    client.call(operations.members.signIn, { body: { email, password, as: 'token', ...(given === undefined ? {} : { code: given }) } });
  try {
    return await call(code);
  } catch (error) {
    if (!(error instanceof Problem) || error.problem !== 'second-factor-needed') throw error;
    return call(await askCode(error.extras.methods ?? []));
  }
}

function addProfileCommands(program: Command): void {
  const profile = program.command('profile').description('saved sign-ins');
  profile
    .command('list')
    .description('profiles, and the default one')
    .action((_own: object, command: Command) => {
      const { current, profiles } = readSettings();
      printList(
        Object.entries(profiles).map(([name, kept]) => ({ name, ...kept })),
        [
          ['profile', ({ name }) => name],
          ['used', ({ name }) => name === current],
          'address',
          'email',
          ['place', ({ app, environment }) => (app ? `${app}/${environment}` : '')],
        ],
        globalsOf(command),
      );
    });
  profile
    .command('use')
    .description('make this one the default')
    .argument('<name>')
    .action((name: string, _own: object, command: Command) => {
      const settings = readSettings();
      if (!profileOf(settings, name)) throw new CommandError(`There is no profile ${name}. \`orchard profile list\` lists them.`, 5);
      writeSettings({ ...settings, current: name });
      note(`Profile ${name} is the default now.`, globalsOf(command));
    });
}

function addPasswordCommand(program: Command): void {
  program
    .command('password')
    .description('change your password; your other sessions end')
    .option('--password-stdin', 'read the current and the new password from standard input, a line each')
    .action(async (own: { passwordStdin?: boolean }, command: Command) => {
      const options = globalsOf(command);
      const { client } = signedIn(options);
      const [password, newPassword] = own.passwordStdin
        ? await readLines(2)
        : [await askSecret('Current password: '), await askSecret('New password: ')];
      await client.call(operations.members.changePassword, { body: { password: password as string, newPassword: newPassword as string } });
      note('The password is changed. Your other sessions have ended.', options);
    });
}
