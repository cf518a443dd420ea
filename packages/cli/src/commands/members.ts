/** The team: members, their roles, invitations and your own sessions. */
import { operations, ROLES, type Role } from '@orchard/contract';
import { type Command, InvalidArgumentError } from 'commander';
import { readLine } from '../asking.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { note, printItem } from '../output.js';
import { addWayCheck } from './entry.js';

const NO_ROLE = 'none';
export type RoleChange = { app: string; environment?: string; role: Role | null };

/** `quillfell-hiker=developer,quillfell-hiker/live=viewer`; `none` takes a role away. */
export function readRoles(text: string): RoleChange[] {
  return text.split(',').map((part) => {
    const [, app, environment, role] = /^\s*([\w-]+)(?:\/([\w-]+))?=(\w+)\s*$/.exec(part) ?? [];
    if (!app || !role || ![...ROLES, NO_ROLE].includes(role as Role))
      throw new InvalidArgumentError(
        `\`${part}\` must be app=role or app/environment=role, with a role of ${[...ROLES, NO_ROLE].join(', ')}.`,
      );
    return { app, ...(environment ? { environment } : {}), role: role === NO_ROLE ? null : (role as Role) };
  });
}
export const ROLES_OPTION = ['--roles <list>', 'app=role or app/environment=role, comma-separated', readRoles] as const;

/** `quillfell-hiker/dev developer, quillfell-hiker/live viewer` */
export const grants = (roles: readonly { app: string; environment: string; role: Role }[]) =>
  roles.map(({ app, environment, role }) => `${app}/${environment} ${role}`).join(', ');

export function addMemberCommands(program: Command): void {
  program.command('member').description('the people who run this installation');
  addList(program, operations.members.list, [
    'name',
    'email',
    'owner',
    'secondFactor',
    ['roles', ({ roles }) => grants(roles)],
    ['joinedAt', ({ joinedAt }) => joinedAt ?? 'invited'],
    'lastSeenAt',
    'id',
  ]);
  addCall(program, operations.members.add, {
    options: { roles: false, password: false },
    more: async (command) => {
      const { roles, passwordStdin } = command.opts<{ roles?: RoleChange[]; passwordStdin?: boolean }>();
      return { ...(roles ? { roles } : {}), ...(passwordStdin ? { password: await readLine() } : {}) };
    },
    print: ({ invitation, roles, ...added }, options) => {
      if (options.json) return printItem({ ...added, roles, invitation }, options);
      printItem({ ...added, roles: grants(roles) }, options);
      if (invitation?.mailed) note(`The invitation is on its way to ${added.email}. It is valid until ${invitation.expiresAt}.`, options);
      if (invitation?.address) note(`${invitation.reason}\n${invitation.address}`, options);
    },
  })
    .option(...ROLES_OPTION)
    .option('--password-stdin', 'add the member at once, with a first password from standard input');
  addCall(program, operations.members.invite);
  addCall(program, operations.members.patch, {
    options: { roles: false },
    more: async (command) =>
      command.opts<{ roles?: RoleChange[] }>().roles ? { roles: command.opts<{ roles: RoleChange[] }>().roles } : {},
    show: ({ roles, ...changed }) => ({ ...changed, roles: grants(roles) }),
  }).option(...ROLES_OPTION);
  addRemoval(program, operations.members.remove, {
    what: ({ member: id }) => `Removing the member ${id}`,
    done: ({ member: id }) => `Removed ${id}.`,
  });
  addCall(program, operations.members.makePasswordLink);
  addEntryOfMembers(program);
  addRemoval(program, operations.secondFactors.reset, {
    what: ({ member: id }) => `Removing all second factors of the member ${id}`,
    back: 'They sign in with their password alone until they add one again.',
    done: ({ member: id }) => `${id} has no second factor any more, and is signed out everywhere.`,
  });
  addSessionCommands(program);
}

function addSessionCommands(program: Command): void {
  program.command('session').description('your own sessions');
  addList(program, operations.members.sessions, ['id', 'kind', 'current', 'createdAt', 'lastSeenAt', 'address', 'userAgent']);
  addCall(program, operations.members.endSession, { hint: () => 'The session has ended.' });
  addCall(program, operations.members.endOthers);
}

/** Providers at which members sign in. */
function addEntryOfMembers(program: Command): void {
  const own = operations.memberEntry;
  program.command('member-entry').description('providers at which members sign in to the console');
  addList(program, own.list, [
    ['name', ({ way }) => way.name],
    ['kind', ({ way }) => way.kind],
    ['title', ({ way }) => way.title],
    ['groups', ({ groups }) => Object.keys(groups).join(' ')],
    ['redirectAddress', ({ way }) => way.redirectAddress ?? way.metadataAddress],
  ]);
  addCall(program, own.put);
  addRemoval(program, own.remove, { what: ({ way }) => `Taking ${way} away from the sign-in of members` });
  addWayCheck(program, own.check);
}
