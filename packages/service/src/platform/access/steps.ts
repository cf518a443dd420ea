/** The steps of a call that establish who calls and what they may do. */
import { createHmac, timingSafeEqual } from 'node:crypto';
import { Problem, type Role } from '@orchard/contract';
import { KEY_PREFIXES } from '@orchard/core';
import { parse } from 'cookie';
import type { Call } from '../call.js';
import type { Platform } from '../platform.js';
import { demandConfirmed } from './confirmation.js';
import { demandHere, RevokedKey } from './directory.js';
import { heldBackWords, heldRole, roleReaches } from './memberDirectory.js';

export const SESSION_COOKIE = 'orchard_session';

/** Finds environment and client by the key, and refuses a key of the wrong kind or without the scope. */
export async function identifyKey(call: Call, parts: Platform): Promise<void> {
  const { caller } = call.operation;
  if (caller.kind !== 'app' && caller.kind !== 'server') return;
  try {
    call.holder = await parts.directory.holderOf(call.headers['orchard-key'] as string | undefined);
  } catch (error) {
    if (error instanceof RevokedKey) call.environment = error.environment;
    throw error;
  }
  call.environment = call.holder.environment;
  if (call.holder.key.kind === 'server') await parts.actors.refresh();
}

/** Refuses a key of a kind or without a scope that the call takes. */
export function checkRights(call: Call): void {
  const { caller } = call.operation;
  const key = call.holder?.key;
  if (!key || (caller.kind !== 'app' && caller.kind !== 'server')) return;
  if (key.kind === 'client' && caller.kind === 'server') {
    throw new Problem(
      'key-wrong-kind',
      `This call needs a server key with the scope \`${caller.scope}\`; a client key was sent. Server keys belong on your own server, never in an app.`,
    );
  }
  if (key.kind === 'client') return;
  if (!caller.scope) throw new Problem('key-wrong-kind', 'This call needs a client key; a server key was sent.');
  if (!key.scopes.includes(caller.scope)) {
    throw new Problem(
      'scope-missing',
      `The server key \`${key.name}\` has the scopes ${key.scopes.join(', ') || 'none'}; this call needs \`${caller.scope}\`. Create a key with that scope under Setup, Clients and keys.`,
    );
  }
}

/**
 * Refuses a web origin that the client does not list. The page may read the refusal (it carries
 * Access-Control-Allow-Origin), because a browser's own message for a blocked call names no cause.
 */
export async function checkOrigin(call: Call, parts: Platform): Promise<void> {
  const { origin } = call.headers;
  if (!origin || !call.holder || call.holder.client.origins.includes(origin) || origin === parts.address()) return;
  const { client, environment } = call.holder;
  if (await parts.ports.isSiteOrigin(environment, client.name, origin)) return;
  await parts.ports.noteBlockedOrigin(environment.id, client.name, origin, `${call.operation.method} ${call.operation.path}`);
  throw new Problem(
    'origin-blocked',
    `The origin ${origin} is not allowed for client \`${client.name}\` of ${environment.app}/${environment.name}. Allow it at ${parts.address()}/${environment.app}/${environment.name}/setup.`,
  );
}

/** RFC 6750 section 2.1. @throws {Problem} token-invalid, for another scheme or a token without one */
function bearerOf(call: Call): string | undefined {
  const given = call.headers.authorization;
  if (given === undefined) return undefined;
  const token = /^Bearer\s+(\S+)$/i.exec(given.trim())?.[1];
  if (token) return token;
  const [scheme = '', rest] = given.trim().split(/\s+/);
  throw new Problem(
    'token-invalid',
    rest === undefined
      ? 'The header Authorization has a value without a scheme. Send `Authorization: Bearer <token>`.'
      : `The header Authorization has the scheme ${scheme.slice(0, 20)}. Send \`Authorization: Bearer <token>\`.`,
  );
}

/** Finds the signed-in user of an app call. */
export async function identifyUser(call: Call, parts: Platform): Promise<void> {
  const { caller } = call.operation;
  if (caller.kind !== 'app' || !call.environment) return;
  const token = bearerOf(call);
  if (token) call.user = await parts.userTokens.userOf(call.environment, token);
  else if (caller.user === 'required') throw new Problem('token-missing');
  if (call.user?.support) checkSupport(call, call.user.support);
}

/** A member who looks at the app as a user is marked, and does not do what only the owner of the account may. @throws {Problem} access-refused */
function checkSupport(call: Call, memberId: string): void {
  call.response.setHeader('Orchard-Support', memberId);
  if (call.operation.ownerOnly)
    throw new Problem('access-refused', 'Only the owner of the account may do this, not a member who looks at the app in their name.');
}

/** The value the console sends back with every write (a MAC over its session, so nothing is stored). */
export const csrfValue = (secretKey: Buffer, tokenHash: string): string =>
  createHmac('sha256', secretKey).update(`csrf:${tokenHash}`).digest('base64url');

/** Finds the member behind the cookie or bearer token, the environment of the path, and the member's role in it. */
export async function identifyMember(call: Call, parts: Platform): Promise<void> {
  const { caller } = call.operation;
  if (caller.kind !== 'member') return;
  const bearer = bearerOf(call);
  const token = bearer ?? parse(call.headers.cookie ?? '')[SESSION_COOKIE];
  const member = token ? await parts.members.memberOf(token, call.at, call.request.ip ?? null) : null;
  if (!member) throw new Problem('member-sign-in-needed', token ? endedWords(token) : undefined);
  call.member = member;
  await parts.actors.refresh();
  if (!bearer) checkCsrf(call, parts, member.tokenHash);
  if (caller.person && member.via === 'automation')
    throw new Problem('role-insufficient', 'An automation token cannot do this: it is for people. Sign in as a member.');
  const { app, environment } = call.request.params as Record<string, string | undefined>;
  if (app && environment) {
    call.environment = await parts.directory.environment(app, environment);
    // A balancer sends one member to several instances in turn: each has to know what the one before was told.
    if (parts.instances.others > 0) parts.ports.forgetRemembered(call.environment);
    const role = await parts.members.roleIn(member, call.environment.id);
    call.role = role && heldRole(role, call.environment.demandsSecondFactor, member);
    call.heldBack = call.role !== role;
    if (call.heldBack && !roleReaches(call.role as Role, caller.role))
      throw new Problem('role-insufficient', `This needs the role ${caller.role}. ${heldBackWords(role as Role, app)}`);
  } else if (member.owner) call.role = 'owner';
  else call.role = 'viewer';
  if (!call.role) throw new Problem('role-insufficient', `You have no role in ${app}/${environment}. Ask an owner to give you one.`);
  if (!roleReaches(call.role, caller.role))
    throw new Problem('role-insufficient', `This needs the role ${caller.role}; yours is ${call.role}. Ask an owner.`);
  // Where it went is for those who may know of it.
  if (call.environment && !call.operation.evenMoved) demandHere(call.environment);
}

const endedWords = (token: string): string =>
  token.startsWith(`${KEY_PREFIXES.automation}-`)
    ? 'The automation token has expired or was revoked, or it is mistyped. `orchard token list` shows those there are.'
    : 'Your session has ended. Sign in again, or run `orchard sign-in`.';

/** Asks members for a fresh proof of who they are before a sensitive change. */
export function checkConfirmed(call: Call, parts: Platform): Promise<void> | undefined {
  return call.operation.confirmed ? demandConfirmed(call, parts) : undefined;
}

/** A browser sends the cookie for any page; the header proves that our own page made the request. */
function checkCsrf(call: Call, parts: Platform, tokenHash: string): void {
  if (call.operation.method === 'GET') return;
  const given = Buffer.from(String(call.headers['orchard-csrf'] ?? ''));
  const wanted = Buffer.from(csrfValue(parts.secretKey, tokenHash));
  if (given.length !== wanted.length || !timingSafeEqual(given, wanted)) throw new Problem('csrf-refused');
}
