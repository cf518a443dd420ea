import { operations, SCOPE_SENTENCES, SCOPES } from '@orchard/contract';
import type { Command } from 'commander';
import { globalsOf, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { printList } from '../output.js';
import { print } from '../surroundings.js';

export function addClientCommands(program: Command): void {
  program.command('client').description('clients: the builds that call an environment');
  addList(program, operations.clients.list, [
    'name',
    'kind',
    'packageIdentifier',
    'origins',
    ['keys', ({ keys }) => keys.filter(({ revokedAt }) => !revokedAt).length],
  ]);
  addCall(program, operations.clients.create, {
    about: 'add a client; one inside an app gets its client key at once',
    options: { origins: { about: 'allowed web origins, comma-separated' } },
    show: ({ name, kind, keys }) => ({ client: name, kind, key: keys[0]?.key ?? 'none yet: orchard key add' }),
  });
  addCall(program, operations.clients.patch, {
    about: 'change package identifier, project or origins of a client',
    show: ({ name, packageIdentifier, project, origins }) => ({ client: name, packageIdentifier, project, origins: origins.join(' ') }),
  });
  addCall(program, operations.clients.profile, {
    about: 'the client profile, to be saved as orchard-client.json',
    print: (profile) => print(JSON.stringify(profile, null, 2)),
  });
  addCall(program, operations.clients.allowOrigin, {
    about: 'allow a web origin',
    show: ({ name, origins }) => ({ client: name, origins: origins.join(' ') }),
  });
  addList(program, operations.clients.blockedOrigins, ['origin', 'client', 'count', 'lastAt', 'lastRoute'], {
    about: 'web origins that were blocked',
  });
}

export function addKeyCommands(program: Command): void {
  const key = program.command('key').description('keys of clients');
  addKeyList(key);
  key
    .command('scopes')
    .description('what each scope of a server key allows')
    .action((_own: object, command: Command) =>
      printList(
        SCOPES.map((scope) => ({ scope, allows: SCOPE_SENTENCES[scope] })),
        ['scope', 'allows'],
        globalsOf(command),
      ),
    );
  addCall(program, operations.clients.createKey, {
    about: 'create a key; a server key is shown this once',
    options: {
      name: { about: 'what it is for' },
      scopes: { about: 'what a server key may do, comma-separated; see below' },
    },
    show: ({ id, key: text, scopes }) => ({ id, key: text, scopes: scopes.join(' ') }),
    hint: ({ kind }) => (kind === 'server' ? 'Keep it now: it is not shown again.' : undefined),
  }).addHelpText('after', `\nScopes:\n${SCOPES.map((scope) => `  ${scope.padEnd(17)} ${SCOPE_SENTENCES[scope]}`).join('\n')}`);
  addRemoval(program, operations.clients.revokeKey, {
    what: ({ key: id }) => `Revoking the key ${id}`,
    done: ({ key: id }) => `Revoked ${id}.`,
  });
}

/** Keys are listed with their clients; this list is by key. */
function addKeyList(key: Command): void {
  key
    .command('list')
    .description('keys and what each may do')
    .action(async (_own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const { items } = await client.call(operations.clients.list, { params });
      printList(
        items.flatMap(({ keys }) => keys),
        [
          'id',
          'client',
          'name',
          'kind',
          ['ends', ({ hint }) => `…${hint}`],
          ['scopes', ({ kind, scopes }) => (kind === 'client' ? 'what the access rules allow' : scopes)],
          'lastUsedAt',
          'revokedAt',
        ],
        options,
      );
    });
}
