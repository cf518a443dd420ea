/** Accounts of users: who may have one, how people get in, and the mails about it. */
import { readFileSync } from 'node:fs';
import { extname } from 'node:path';
import { operations, type SignInWayDocument } from '@orchard/contract';
import type { Command } from 'commander';
import { fromInput } from '../asking.js';
import { CommandError } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { moment, printSteps } from '../output.js';

export function addEntryCommands(program: Command): void {
  const own = operations.accounts;
  program.command('sign-up').description('who may have an account, and how people get in');
  addCall(program, own.rules);
  addCall(program, own.changeRules);
  addCall(program, own.invite);
  addList(program, own.sessions, [
    'id',
    'client',
    ['startedAt', ({ startedAt }) => moment(startedAt)],
    ['renewedAt', ({ renewedAt }) => moment(renewedAt)],
    ['expiresAt', ({ expiresAt }) => moment(expiresAt)],
  ]);
  addRemoval(program, own.endSession, { what: ({ session }) => `Ending the session ${session}`, done: () => 'Ended.' });

  addWayCommands(program);
  addRoleCommands(program);

  program.command('user-field').description('fields of users that the team has defined');
  addList(program, own.fields, ['name', 'type', 'required', 'seenBy', 'changedBy', 'description']);
  addCall(program, own.defineField);
  addRemoval(program, own.removeField, { what: ({ field }) => `Taking the definition of ${field} back` });

  program.command('account-mail').description('the mails about accounts');
  addList(program, own.mails, [
    'mail',
    ['ours', ({ ours }) => Object.keys(ours).join(' ')],
    ['own', ({ own: texts }) => Object.keys(texts).join(' ')],
    ['variables', ({ variables }) => variables.map((name) => `{${name}}`).join(' ')],
  ]);
  addCall(program, own.writeMail);
  addRemoval(program, own.resetMail, { what: ({ mail, locale }) => `Taking back the text of ${mail} in ${locale}` });
  addCall(program, own.previewMail);
  addCall(program, own.testMail);
  addList(program, own.outbox, [['at', ({ at }) => moment(at)], 'mail', 'to', 'subject']);
}

function addWayCommands(program: Command): void {
  const own = operations.signInWays;
  program.command('sign-in-way').description('providers outside at which people sign in');
  addList(program, own.list, [
    'name',
    'kind',
    'title',
    ['at', whereOf],
    'hasSecret',
    ['clients', ({ clients }) => clients.join(' ') || 'all'],
    ['roles', ({ roles }) => Object.values(roles).join(' ')],
  ]);
  addCall(program, own.put, {
    // The metadata of a provider and the certificate of an authority are files.
    options: {
      metadata: { flags: '--metadata <file>', about: 'of SAML: the file with the provider’s metadata' },
      trust: { flags: '--trust <file>', about: 'of a directory: the PEM file of the authority of its certificate' },
      filter: { flags: '--filter <ldap>', about: 'of a directory: what finds somebody (RFC 4515), such as "(uid={user})"' },
      secret: false,
    },
    more: async (command) => ({ ...fileTexts(command, ['metadata', 'trust']), ...(await fromInput(command, ['secret'])) }) as never,
  }).option('--secret-stdin', 'read the secret that the provider gave, or the password of the directory’s account, from standard input');
  addRemoval(program, own.remove, { what: ({ way }) => `Taking the way ${way} away` });
  addCall(program, own.copy, { options: { app: { flags: '--from-app <app>' }, environment: { flags: '--from-env <environment>' } } });
  addWayCheck(program, own.check);
  addCall(program, own.tryOut);
  addList(program, own.ofUser, ['id', 'title', 'account', ['addedAt', ({ addedAt }) => moment(addedAt)]]);

  program.command('sign-in-page').description('how the page on which people sign in looks');
  addCall(program, operations.identity.page);
  addCall(program, operations.identity.changePage, {
    options: { picture: { flags: '--picture <file>', about: 'a PNG, JPEG or WebP file of at most 150 kB' } },
    more: async (command) => pictureOf(command) as never,
  });
}

/** Tries a way; what proves somebody comes from standard input. */
export function addWayCheck(program: Command, operation: typeof operations.signInWays.check | typeof operations.memberEntry.check): void {
  addCall(program, operation, {
    options: { password: false, token: false },
    more: (command) => fromInput(command, ['password', 'token']),
    print: printSteps,
  })
    .option('--password-stdin', 'of a directory: read the password of that user from standard input')
    .option('--token-stdin', 'of tokens of another issuer: read one from standard input');
}

function addRoleCommands(program: Command): void {
  const own = operations.userRoles;
  program.command('role').description('roles of users, with their rules');
  addList(program, own.list, [
    'name',
    'users',
    'description',
    'rule',
    ['groups', ({ groups }) => groups.map(({ way, group }) => `${way}: ${group}`).join(', ')],
  ]);
  addCall(program, own.put, { show: ({ name, description, rule, users }) => ({ role: name, description, rule, users }) });
  addRemoval(program, own.remove, { what: ({ role }) => `Taking the role ${role} back` });
  addCall(program, own.ofUser);
  addCall(program, operations.accounts.beginSupport);

  const factors = operations.userFactors;
  addList(program, factors.ofUser, ['id', 'kind', 'name', ['lastUsedAt', ({ lastUsedAt }) => moment(lastUsedAt)]], {
    hint: ({ recoveryCodes }) => `${recoveryCodes} recovery codes are left.`,
  });
  addRemoval(program, factors.reset, { what: ({ user }) => `Removing the second factors of ${user}` });
}

/** The provider, in one line. */
function whereOf(way: SignInWayDocument): string {
  switch (way.kind) {
    case 'openid':
    case 'tokens':
      return way.issuer;
    case 'oauth':
      return way.authorizeAddress;
    case 'saml':
      return /entityID="([^"]*)"/.exec(way.metadata)?.[1] ?? '';
    case 'directory':
      return way.address;
  }
}

/** Options that name files, as the texts in them. */
function fileTexts(command: Command, names: readonly string[]): Record<string, string> {
  const files = names.flatMap((name) =>
    command.getOptionValue(name) === undefined ? [] : [[name, command.getOptionValue(name) as string]],
  );
  return Object.fromEntries(files.map(([name, file]) => [name, readGiven(file as string).toString('utf8')]));
}

const PICTURES: Record<string, string> = { '.png': 'png', '.jpg': 'jpeg', '.jpeg': 'jpeg', '.webp': 'webp' };

function pictureOf(command: Command): { picture?: string } {
  const file = command.getOptionValue('picture') as string | undefined;
  if (file === undefined) return {};
  const type = PICTURES[extname(file).toLowerCase()];
  if (!type) throw new CommandError(`${file} is no PNG, JPEG or WebP file by its name.`, 2);
  return { picture: `data:image/${type};base64,${readGiven(file).toString('base64')}` };
}

function readGiven(file: string): Buffer {
  try {
    return readFileSync(file);
  } catch (error) {
    throw new CommandError(`${file} cannot be read: ${(error as Error).message}`, 2);
  }
}
