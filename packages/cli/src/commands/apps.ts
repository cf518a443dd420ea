import { CLIENT_KINDS, type Key, MODES, operations, SCOPE_SENTENCES, SCOPES } from '@orchard/contract';
import { Argument, type Command, Option } from 'commander';
import { confirm } from '../asking.js';
import { CommandError, globalsOf, placeOf, signedIn, workplace } from '../context.js';
import { moment, note, printItem, printList } from '../output.js';

const list = (value: string, before: string[] = []) => [
  ...before,
  ...value
    .split(',')
    .map((item) => item.trim())
    .filter(Boolean),
];

export function addAppCommands(program: Command): void {
  const app = program.command('app').description('apps of this installation');
  app
    .command('list')
    .description('apps and their environments')
    .action(async (_own: object, command: Command) => {
      const options = globalsOf(command);
      const { items } = await signedIn(options).client.call(operations.apps.list, {});
      printList(
        items,
        {
          app: ({ name }) => name,
          title: ({ title }) => title,
          environments: ({ environments }) => environments.map(({ name }) => name).join(', '),
          made: ({ createdAt }) => moment(createdAt),
        },
        options,
      );
    });
  app
    .command('add')
    .description('make an app with the environments dev and live')
    .argument('<name>')
    .option('--title <text>')
    .action(async (name: string, own: { title?: string }, command: Command) => {
      const options = globalsOf(command);
      const made = await signedIn(options).client.call(operations.apps.create, {
        body: { name, ...(own.title ? { title: own.title } : {}) },
      });
      printItem(
        { app: made.name, title: made.title, environments: made.environments.map((environment) => environment.name).join(', ') },
        options,
      );
    });
  app
    .command('delete')
    .description('delete an app with all its data')
    .argument('<name>')
    .option('--yes', 'do not ask')
    .action(async (name: string, own: { yes?: boolean }, command: Command) => {
      await confirm(`Deleting the app ${name} with all its data`, own.yes);
      await signedIn(globalsOf(command)).client.call(operations.apps.remove, { params: { app: name } });
      note(`Deleted ${name}.`, globalsOf(command));
    });

  const env = program.command('env').description('environments of an app');
  env
    .command('list')
    .description('environments of the app')
    .action(async (_own: object, command: Command) => {
      const options = globalsOf(command);
      const { items } = await signedIn(options).client.call(operations.apps.list, {});
      const all = items
        .flatMap(({ environments }) => environments)
        .filter((environment) => !options.app || environment.app === options.app);
      printList(
        all,
        {
          app: (item) => item.app,
          environment: ({ name }) => name,
          mode: ({ mode }) => mode,
          role: ({ role }) => role,
          server: ({ server }) => server ?? 'main',
          made: ({ createdAt }) => moment(createdAt),
        },
        options,
      );
    });
  env
    .command('add')
    .description('add an environment')
    .argument('<name>')
    .addOption(new Option('--mode <mode>', 'whether writes may add collections and fields').choices(MODES).default('closed'))
    .option('--server <name>', 'database server to place it on, as ORCHARD_DATABASE_SERVERS names it; without one, the main one')
    .action(async (name: string, own: { mode: 'open' | 'closed'; server?: string }, command: Command) => {
      const options = globalsOf(command);
      const parent = options.app ?? placeOf(options).app;
      printItem(
        await signedIn(options).client.call(operations.environments.create, { params: { app: parent }, body: { name, ...own } }),
        options,
      );
    });
  env
    .command('mode')
    .description('open or close the environment to new collections and fields')
    .addArgument(new Argument('<mode>').choices(MODES))
    .action(async (mode: 'open' | 'closed', _own: object, command: Command) => {
      const options = globalsOf(command);
      printItem(await signedIn(options).client.call(operations.environments.patch, { params: placeOf(options), body: { mode } }), options);
    });
  env
    .command('widening')
    .description('whether, while it is open, a number with a fraction makes an integer field one of numbers')
    .addArgument(new Argument('<on|off>').choices(['on', 'off']))
    .action(async (to: string, _own: object, command: Command) => {
      const options = globalsOf(command);
      const body = { widening: to === 'on' };
      printItem(await signedIn(options).client.call(operations.environments.patch, { params: placeOf(options), body }), options);
    });
  env
    .command('delete')
    .description('delete the environment with all its data')
    .option('--yes', 'do not ask')
    .action(async (own: { yes?: boolean }, command: Command) => {
      const params = placeOf(globalsOf(command));
      await confirm(`Deleting the environment ${params.app}/${params.environment} with all its data`, own.yes);
      await signedIn(globalsOf(command)).client.call(operations.environments.remove, { params });
      note(`Deleted ${params.app}/${params.environment}.`, globalsOf(command));
    });
  addClientCommands(program);
  addKeyCommands(program);
}

function addClientCommands(program: Command): void {
  const client = program.command('client').description('clients: the builds that call an environment');
  client
    .command('list')
    .description('clients of the environment')
    .action(async (_own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      const { items } = await client.call(operations.clients.list, { params });
      printList(
        items,
        {
          client: ({ name }) => name,
          kind: ({ kind }) => kind,
          package: ({ packageIdentifier }) => packageIdentifier,
          origins: ({ origins }) => origins.join(' '),
          keys: ({ keys }) => keys.filter(({ revokedAt }) => !revokedAt).length,
        },
        options,
      );
    });
  client
    .command('add')
    .description('add a client; one inside an app gets its client key at once')
    .argument('<name>')
    .addOption(new Option('--kind <kind>').choices(CLIENT_KINDS).makeOptionMandatory())
    .option('--package <identifier>', 'package identifier, as the platform’s own tools call the app')
    .option('--origin <origin>', 'allowed web origin; may be given again', list)
    .action(async (name: string, own: { kind: (typeof CLIENT_KINDS)[number]; package?: string; origin?: string[] }, command: Command) => {
      const { options, client, params } = workplace(command);
      const made = await client.call(operations.clients.create, {
        params,
        body: {
          name,
          kind: own.kind,
          ...(own.package ? { packageIdentifier: own.package } : {}),
          ...(own.origin ? { origins: own.origin } : {}),
        },
      });
      printItem({ client: made.name, kind: made.kind, key: made.keys[0]?.key ?? 'none yet: orchard key add' }, options);
    });
  client
    .command('set')
    .description('set what a client is known by outside')
    .argument('<client>')
    .option('--package <identifier>', 'package identifier, as the platform’s own tools call the app')
    .option('--project <name>', 'its project at a push network that uses service accounts')
    .action(async (name: string, own: { package?: string; project?: string }, command: Command) => {
      const { options, client, params } = workplace(command);
      const changed = await client.call(operations.clients.patch, {
        params: { ...params, client: name },
        body: { ...(own.package ? { packageIdentifier: own.package } : {}), ...(own.project ? { project: own.project } : {}) },
      });
      printItem({ client: changed.name, package: changed.packageIdentifier, project: changed.project }, options);
    });
  client
    .command('profile')
    .description('the client profile, to be saved as orchard-client.json')
    .argument('<client>')
    .action(async (name: string, _own: object, command: Command) => {
      const { client, params } = workplace(command);
      console.log(JSON.stringify(await client.call(operations.clients.profile, { params: { ...params, client: name } }), null, 2));
    });
  client
    .command('allow')
    .description('allow a web origin')
    .argument('<client>')
    .argument('<origin>')
    .action(async (name: string, origin: string, _own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      const changed = await client.call(operations.clients.allowOrigin, {
        params: { ...params, client: name },
        body: { origin },
      });
      printItem({ client: changed.name, origins: changed.origins.join(' ') }, options);
    });
  client
    .command('blocked')
    .description('web origins that were turned away')
    .action(async (_own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      const { items } = await client.call(operations.clients.blockedOrigins, { params });
      printList(
        items,
        {
          origin: ({ origin }) => origin,
          client: (item) => item.client,
          calls: ({ count }) => count,
          latest: ({ lastAt }) => moment(lastAt),
          call: ({ lastRoute }) => lastRoute,
        },
        options,
      );
    });
}

function addKeyCommands(program: Command): void {
  const key = program.command('key').description('keys of clients');
  key
    .command('list')
    .description('keys and what each may do')
    .action(async (_own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      const { items } = await client.call(operations.clients.list, { params });
      printList(
        items.flatMap(({ keys }) => keys),
        {
          id: ({ id }) => id,
          client: ({ client }) => client,
          name: ({ name }) => name,
          kind: ({ kind }) => kind,
          ends: ({ hint }) => `…${hint}`,
          'may do': ({ kind, scopes }) => (kind === 'client' ? 'what the access rules allow' : scopes.join(' ')),
          used: ({ lastUsedAt }) => moment(lastUsedAt),
          revoked: ({ revokedAt }) => moment(revokedAt),
        },
        options,
      );
    });
  key
    .command('scopes')
    .description('what each scope of a server key lets one do')
    .action((_own: object, command: Command) =>
      printList(
        SCOPES.map((scope) => ({ scope, lets: SCOPE_SENTENCES[scope] })),
        { scope: ({ scope }) => scope, lets: ({ lets }) => lets },
        globalsOf(command),
      ),
    );
  key
    .command('add')
    .description('make a key; a server key is shown this once')
    .argument('<client>')
    .requiredOption('--name <text>', 'what it is for')
    .option('--scope <scope>', 'what a server key may do, see below; may be given again', list)
    .addHelpText('after', `\nScopes:\n${SCOPES.map((scope) => `  ${scope.padEnd(17)} ${SCOPE_SENTENCES[scope]}`).join('\n')}`)
    .action(async (owner: string, own: { name: string; scope?: string[] }, command: Command) => {
      const { options, client, params } = workplace(command);
      const wrong = own.scope?.find((scope) => !(SCOPES as readonly string[]).includes(scope));
      if (wrong) throw new CommandError(`There is no scope \`${wrong}\`. The scopes are ${SCOPES.join(', ')}.`, 2);
      const made = await client.call(operations.clients.createKey, {
        params: { ...params, client: owner },
        body: { name: own.name, ...(own.scope ? { scopes: own.scope as Key['scopes'] } : {}) },
      });
      printItem({ id: made.id, key: made.key, scopes: made.scopes.join(' ') }, options);
      if (made.kind === 'server') note('Keep it now: it is not shown again.', options);
    });
  key
    .command('revoke')
    .description('revoke a key')
    .argument('<client>')
    .argument('<id>')
    .option('--yes', 'do not ask')
    .action(async (owner: string, id: string, own: { yes?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      await confirm(`Revoking the key ${id}`, own.yes);
      await client.call(operations.clients.revokeKey, {
        params: { ...params, client: owner, key: id },
      });
      note(`Revoked ${id}.`, options);
    });
}
