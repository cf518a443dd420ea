import { type Member, operations, Problem, type Role } from '@orchard/contract';
import { formatKey } from '@orchard/core';
import { and, eq, inArray, ne } from 'drizzle-orm';
import type { Response } from 'express';
import { Guesses } from '../../platform/access/guesses.js';
import { linkMail, type LinkTable, makeLink, takeLink } from '../../platform/access/oneTimeLinks.js';
import { demandGoodPassword, WRONG_PASSWORD } from '../../platform/access/passwords.js';
import { hashKey, hashPassword, verifyPassword } from '../../platform/access/secrets.js';
import { csrfValue, SESSION_COOKIE } from '../../platform/access/steps.js';
import { isDuplicate } from '../../platform/database/connection.js';
import { environments, memberCredentials, memberRoles, memberSessions, members } from '../../platform/access/systemTables.js';
import { bind, type Call, type Route, type SignedInMember } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { guarded } from '../../platform/upkeep.js';
import { findMember, isSetupNeeded, keepSetupToken, takeSetupToken } from './setup.js';

const SESSION_MS = { cookie: 7 * 86_400_000, token: 90 * 86_400_000 };
const LINKS: LinkTable = { table: 'memberLinks', owner: 'memberId' };
const ANYBODY = 'Vivid Orchard';
type MemberRow = typeof members.$inferSelect;
const presentMember = ({ id, email, name, owner }: Member): Member => ({ id, email, name, owner: Boolean(owner) });

export function memberRoutes(parts: Parts): Route[] {
  return [...sessionRoutes(parts), ...passwordRoutes(parts), ...teamRoutes(parts)];
}

async function insertMember(parts: Parts, wanted: { email: string; name: string; password: string; owner: boolean }): Promise<Member> {
  demandGoodPassword(wanted.password, 'body.password', [wanted.email, wanted.name]);
  const row = {
    id: parts.newId(),
    email: wanted.email,
    name: wanted.name,
    owner: wanted.owner,
    createdAt: new Date(parts.now()),
  };
  const hash = await hashPassword(wanted.password);
  try {
    await parts.database.orm.transaction(async (on) => {
      await on.insert(members).values(row);
      await on.insert(memberCredentials).values(passwordRow(parts, row.id, hash));
    });
  } catch (error) {
    if (isDuplicate(error)) throw new Problem('already-exists', `There is a member ${wanted.email} already.`);
    throw error;
  }
  return presentMember(row);
}

const passwordRow = (parts: Parts, memberId: string, verifier: string): typeof memberCredentials.$inferInsert => ({
  id: parts.newId(),
  memberId,
  kind: 'password',
  verifier,
  createdAt: new Date(parts.now()),
});

/** The hash of a member's password; undefined for an account without one. */
async function passwordHashOf(parts: Parts, memberId: string): Promise<string | undefined> {
  const [row] = await parts.database.orm
    .select({ verifier: memberCredentials.verifier })
    .from(memberCredentials)
    .where(and(eq(memberCredentials.memberId, memberId), eq(memberCredentials.kind, 'password')));
  return row?.verifier;
}

function setCookie(parts: Parts, response: Response, value: string, maxAge: number): void {
  response.cookie(SESSION_COOKIE, value, {
    httpOnly: true,
    sameSite: 'lax',
    path: '/',
    maxAge,
    secure: parts.address().startsWith('https:'),
  });
}

async function begin(parts: Parts, call: { response: Response }, member: Member, as: 'cookie' | 'token') {
  const token = formatKey('member', parts.random(16));
  const tokenHash = hashKey(token);
  const now = parts.now();
  await parts.database.orm
    .insert(memberSessions)
    .values({ tokenHash, memberId: member.id, kind: as, createdAt: new Date(now), expiresAt: new Date(now + SESSION_MS[as]) });
  if (as === 'token') return { body: { member, token } };
  setCookie(parts, call.response, token, SESSION_MS.cookie);
  return { body: { member, csrf: csrfValue(parts.secretKey, tokenHash) } };
}

/** The member of an address, whose password this is. @throws {Problem} sign-in-refused, rate-exceeded */
async function confirmed(
  parts: Parts,
  call: Pick<Call, 'request'>,
  { email, password }: { email: string; password: string },
  words = 'E-mail address or password is wrong. Check both.',
): Promise<MemberRow> {
  const guesses = new Guesses(parts.database, parts.now, 'guesses');
  const address = call.request.ip ?? '';
  await guesses.demand(email, address);
  const found = await findMember(parts, email);
  if ((await verifyPassword(found && (await passwordHashOf(parts, found.id)), password)) && found) {
    await guesses.noteSuccess(email, address);
    return found;
  }
  await guesses.noteFailure(email, address);
  throw new Problem('sign-in-refused', words);
}

function sessionRoutes(parts: Parts): Route[] {
  const own = operations.members;
  return [
    bind(own.readSetup, async () => ({ body: { needed: await isSetupNeeded(parts) } })),
    bind(own.setUp, async (call) => {
      if (!(await isSetupNeeded(parts))) throw new Problem('setup-done');
      if (!(await takeSetupToken(parts, call.body.token))) throw new Problem('setup-refused');
      try {
        return await begin(parts, call, await insertMember(parts, { ...call.body, owner: true }), 'cookie');
      } catch (error) {
        // Used up without an account, the token would shut everybody out until the next start.
        await keepSetupToken(parts, call.body.token);
        throw error;
      }
    }),
    bind(own.signIn, async (call) => {
      const { email, password, as } = call.body;
      return begin(parts, call, presentMember(await confirmed(parts, call, { email, password })), as);
    }),
    bind(own.readSession, async (call) => {
      const member = call.member as SignedInMember;
      return {
        body: { member: presentMember(member), ...(member.via === 'cookie' ? { csrf: csrfValue(parts.secretKey, member.tokenHash) } : {}) },
      };
    }),
    bind(own.signOut, async (call) => {
      await parts.database.orm.delete(memberSessions).where(eq(memberSessions.tokenHash, (call as Call).member?.tokenHash ?? ''));
      setCookie(parts, call.response, '', 0);
      return { body: undefined };
    }),
  ];
}

/** Sets a password; sessions other than `kept` end. */
async function setPassword(parts: Parts, member: MemberRow, password: string, path: string, kept: string): Promise<void> {
  demandGoodPassword(password, path, [member.email, member.name]);
  const { orm } = parts.database;
  const row = passwordRow(parts, member.id, await hashPassword(password));
  await orm
    .insert(memberCredentials)
    .values(row)
    .onDuplicateKeyUpdate({ set: { verifier: row.verifier, createdAt: row.createdAt } });
  await orm.delete(memberSessions).where(and(eq(memberSessions.memberId, member.id), ne(memberSessions.tokenHash, kept)));
}

async function passwordAddress(parts: Parts, memberId: string): Promise<{ address: string; expiresAt: string } | null> {
  const link = await makeLink(parts, LINKS, memberId);
  return link && { address: `${parts.address()}/new-password?of=member&token=${link.token}`, expiresAt: link.expiresAt.toISOString() };
}

function passwordRoutes(parts: Parts): Route[] {
  const own = operations.members;
  return [
    bind(own.forgotPassword, async (call) => {
      const { installationMail } = parts;
      if (!installationMail)
        throw new Problem(
          'gateway-missing',
          'This installation has no mail server, so that no address can be sent. Ask an owner for one; who runs it sets ORCHARD_SMTP_URL.',
        );
      const { email } = call.body;
      const member = await findMember(parts, email);
      const link = member && (await passwordAddress(parts, member.id));
      // Not waited for: how long it takes would tell that there is such an account.
      if (link)
        void guarded(parts, 'mail a one-time address', {}, () => installationMail.send({ to: email, ...linkMail(ANYBODY, link.address) }));
      return { body: {} };
    }),
    bind(own.newPassword, async (call) => {
      const member = await takeLink(parts, LINKS, call.body.token, async (id) => {
        const found = await memberNamed(parts, id);
        demandGoodPassword(call.body.password, 'body.password', [found.email, found.name]);
        return found;
      });
      await setPassword(parts, member, call.body.password, 'body.password', '');
      return { body: undefined };
    }),
    bind(own.changePassword, async (call) => {
      const { email, tokenHash } = call.member as SignedInMember;
      const member = await confirmed(parts, call, { email, password: call.body.password }, WRONG_PASSWORD);
      await setPassword(parts, member, call.body.newPassword, 'body.newPassword', tokenHash);
      return { body: undefined };
    }),
    bind(own.makePasswordLink, async (call) => {
      await memberNamed(parts, call.params.member);
      const link = await passwordAddress(parts, call.params.member);
      if (!link)
        throw new Problem('rate-exceeded', 'Five such addresses are open already. Use one of those, or wait an hour.', {
          retryAfterS: 600,
        });
      return { body: link };
    }),
  ];
}

async function memberNamed(parts: Parts, id: string): Promise<MemberRow> {
  const [row] = await parts.database.orm.select().from(members).where(eq(members.id, id));
  if (!row) throw new Problem('not-found', `There is no member ${id}. \`orchard member list\` shows those there are.`);
  return row;
}

async function environmentsOf(parts: Parts, app: string): Promise<string[]> {
  const rows = await parts.database.orm.select().from(environments).where(eq(environments.app, app));
  if (rows.length === 0) throw new Problem('not-found', `There is no app \`${app}\`.`);
  return rows.map(({ id }) => id);
}

async function giveRole(parts: Parts, memberId: string, ids: readonly string[], role: Role | null): Promise<void> {
  await parts.database.orm.transaction(async (on) => {
    await on.delete(memberRoles).where(and(eq(memberRoles.memberId, memberId), inArray(memberRoles.environmentId, [...ids])));
    if (role) await on.insert(memberRoles).values(ids.map((environmentId) => ({ memberId, environmentId, role })));
  });
}

/** Members as one of them sees them: owners everybody, others those they share an environment with, without addresses. */
async function visibleMembers(parts: Parts, viewer: SignedInMember): Promise<Member[]> {
  const all = (await parts.database.orm.select().from(members).orderBy(members.createdAt)).map(presentMember);
  if (viewer.owner) return all;
  const roles = await parts.database.orm.select().from(memberRoles);
  const mine = new Set(roles.filter(({ memberId }) => memberId === viewer.id).map(({ environmentId }) => environmentId));
  const beside = new Set(roles.filter(({ environmentId }) => mine.has(environmentId)).map(({ memberId }) => memberId));
  return all
    .filter(({ id, owner }) => id === viewer.id || owner || beside.has(id))
    .map((member) => (member.id === viewer.id ? member : { ...member, email: null }));
}

function teamRoutes(parts: Parts): Route[] {
  const own = operations.members;
  const { orm } = parts.database;
  return [
    bind(own.add, async (call) => {
      const { app, role, ...wanted } = call.body;
      const ids = await environmentsOf(parts, app);
      const member = await insertMember(parts, { ...wanted, owner: false });
      await giveRole(parts, member.id, ids, role);
      return { body: member };
    }),
    bind(own.patch, async (call) => {
      const { name, app, role } = call.body;
      const member = await memberNamed(parts, call.params.member);
      if ((app === undefined) !== (role === undefined)) {
        const problem = 'A role is given in an app: `app` and `role` go together.';
        throw new Problem('invalid-input', problem, {
          fields: [{ path: app ? 'body.role' : 'body.app', problem, expected: 'both, or neither' }],
        });
      }
      if (app && role !== undefined) await giveRole(parts, member.id, await environmentsOf(parts, app), role);
      if (name) await orm.update(members).set({ name }).where(eq(members.id, member.id));
      return { body: presentMember(await memberNamed(parts, member.id)) };
    }),
    bind(own.remove, async (call) => {
      const member = await memberNamed(parts, call.params.member);
      const owners = await orm.select({ id: members.id }).from(members).where(eq(members.owner, true));
      if (member.owner && owners.length === 1)
        throw new Problem('wrong-state', `${member.name} is the only owner; without one nobody could add members any more.`);
      await orm.delete(members).where(eq(members.id, member.id));
      return { body: undefined };
    }),
    bind(own.list, async (call) => ({ body: { items: await visibleMembers(parts, call.member as SignedInMember) } })),
  ];
}
