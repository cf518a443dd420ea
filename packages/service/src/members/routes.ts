import { type Member, operations, Problem } from '@orchard/contract';
import { formatKey } from '@orchard/core';
import { eq } from 'drizzle-orm';
import type { Response } from 'express';
import { hashKey, hashPassword, verifyPassword } from '../access/secrets.js';
import { csrfValue, SESSION_COOKIE } from '../access/steps.js';
import { isDuplicate } from '../database/connection.js';
import { environments, memberRoles, memberSessions, members } from '../database/systemTables.js';
import { bind, type Call, type Route, type SignedInMember } from '../http/call.js';
import type { Parts } from '../parts.js';
import { findMember, isSetupNeeded, keepSetupToken, takeSetupToken } from './setup.js';

const SESSION_MS = { cookie: 7 * 86_400_000, token: 90 * 86_400_000 };
const presentMember = ({ id, email, name, owner }: Member): Member => ({ id, email, name, owner: Boolean(owner) });

export function memberRoutes(parts: Parts): Route[] {
  const own = operations.members;
  const { orm } = parts.database;

  async function insertMember(wanted: { email: string; name: string; password: string; owner: boolean }): Promise<Member> {
    const row = {
      id: parts.newId(),
      email: wanted.email,
      name: wanted.name,
      passwordHash: await hashPassword(wanted.password),
      owner: wanted.owner,
      createdAt: new Date(parts.now()),
    };
    try {
      await orm.insert(members).values(row);
    } catch (error) {
      if (isDuplicate(error)) throw new Problem('already-exists', `There is a member ${wanted.email} already.`);
      throw error;
    }
    return presentMember(row);
  }

  async function begin(call: { response: Response }, member: Member, as: 'cookie' | 'token') {
    const token = formatKey('member', parts.random(16));
    const tokenHash = hashKey(token);
    const now = parts.now();
    await orm
      .insert(memberSessions)
      .values({ tokenHash, memberId: member.id, kind: as, createdAt: new Date(now), expiresAt: new Date(now + SESSION_MS[as]) });
    if (as === 'token') return { body: { member, token } };
    setCookie(call.response, token, SESSION_MS.cookie);
    return { body: { member, csrf: csrfValue(parts.secretKey, tokenHash) } };
  }

  function setCookie(response: Response, value: string, maxAge: number): void {
    response.cookie(SESSION_COOKIE, value, {
      httpOnly: true,
      sameSite: 'lax',
      path: '/',
      maxAge,
      secure: parts.address().startsWith('https:'),
    });
  }

  return [
    bind(own.readSetup, async () => ({ body: { needed: await isSetupNeeded(parts) } })),
    bind(own.setUp, async (call) => {
      if (!(await isSetupNeeded(parts))) throw new Problem('setup-done');
      if (!(await takeSetupToken(parts, call.body.token))) throw new Problem('setup-refused');
      try {
        return await begin(call, await insertMember({ ...call.body, owner: true }), 'cookie');
      } catch (error) {
        // Used up without an account, the token would shut everybody out until the next start.
        await keepSetupToken(parts, call.body.token);
        throw error;
      }
    }),
    bind(own.signIn, async (call) => {
      const found = await findMember(parts, call.body.email);
      if (!(await verifyPassword(found?.passwordHash, call.body.password)) || !found)
        throw new Problem('sign-in-refused', 'E-mail address or password is wrong. Check both.');
      return begin(call, presentMember(found), call.body.as);
    }),
    bind(own.readSession, async (call) => {
      const member = call.member as SignedInMember;
      return {
        body: { member: presentMember(member), ...(member.via === 'cookie' ? { csrf: csrfValue(parts.secretKey, member.tokenHash) } : {}) },
      };
    }),
    bind(own.signOut, async (call) => {
      await orm.delete(memberSessions).where(eq(memberSessions.tokenHash, (call as Call).member?.tokenHash ?? ''));
      setCookie(call.response, '', 0);
      return { body: undefined };
    }),
    bind(own.add, async (call) => {
      const { app, role, ...wanted } = call.body;
      const rows = await orm.select().from(environments).where(eq(environments.app, app));
      if (rows.length === 0) throw new Problem('not-found', `There is no app \`${app}\`.`);
      const member = await insertMember({ ...wanted, owner: false });
      await orm.insert(memberRoles).values(rows.map(({ id }) => ({ memberId: member.id, environmentId: id, role })));
      return { body: member };
    }),
    bind(own.list, async () => ({ body: { items: (await orm.select().from(members).orderBy(members.createdAt)).map(presentMember) } })),
  ];
}
