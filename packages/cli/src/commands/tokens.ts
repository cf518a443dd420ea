/** Automation tokens: secrets with which scripts call the API. */
import { operations, type Role } from '@orchard/contract';
import { type Command, InvalidArgumentError } from 'commander';
import { addCall, addList, addRemoval } from '../declared.js';
import { note, printItem } from '../output.js';
import { grants, type RoleChange, readRoles, ROLES_OPTION } from './members.js';

type Given = { app: string; environment?: string; role: Role };

/** Roles to give; there are none to take away. */
function readGiven(text: string): Given[] {
  return readRoles(text).map(({ role, ...place }: RoleChange) => {
    if (role === null) throw new InvalidArgumentError('A new token has no role to take away.');
    return { ...place, role };
  });
}

export function addTokenCommands(program: Command): void {
  program.command('token').description('secrets with which scripts call the API');
  addList(program, operations.tokens.list, [
    'name',
    ['roles', ({ roles }) => grants(roles)],
    ['state', ({ revokedAt, expiresAt }) => (revokedAt ? 'revoked' : Date.parse(expiresAt) < Date.now() ? 'expired' : 'valid')],
    'expiresAt',
    ['lastUsedAt', ({ lastUsedAt }) => lastUsedAt ?? 'never'],
    'lastUsedFrom',
    ['createdBy', ({ createdBy }) => createdBy.name],
    'id',
  ]);
  const [flags, about] = ROLES_OPTION;
  addCall(program, operations.tokens.create, {
    options: { roles: false },
    more: async (command) => ({ roles: command.opts<{ roles: Given[] }>().roles }),
    print: ({ token, roles, ...made }, options) => {
      if (options.json) return printItem({ ...made, roles, token }, options);
      printItem({ id: made.id, name: made.name, roles: grants(roles), expiresAt: made.expiresAt, token }, options);
      note('It is shown this once. Scripts take it from ORCHARD_TOKEN, with ORCHARD_ADDRESS.', options);
    },
  }).requiredOption(flags, about, readGiven);
  addRemoval(program, operations.tokens.revoke, {
    what: ({ token }) => `Revoking the automation token ${token}`,
    done: ({ token }) => `Revoked ${token}.`,
  });
}
