/** One call on its way through the service. */
import type { IncomingHttpHeaders } from 'node:http';
import {
  type AnyOperation,
  type BodyOf,
  type ParamsOf,
  Problem,
  type QueryOf,
  type ReplyOf,
  type Role,
  type Scope,
} from '@orchard/contract';
import { type Actor, type TraceContext, writeActor } from '@orchard/core';
import type { Request, Response } from 'express';
import type { EnvironmentKeys } from './access/environmentKeys.js';
import type { Actors } from './actors.js';
import type { DatabaseCost } from './database/connection.js';
import type { EnvironmentDatabase } from './database/environmentDatabase.js';
import type { AnswerBytes } from './http/answerBytes.js';

export type Environment = {
  id: string;
  app: string;
  name: string;
  mode: 'open' | 'closed';
  db: EnvironmentDatabase;
  /** The database server that holds it, by the name of the settings; null for the main one. */
  server: string | null;
  keys: EnvironmentKeys;
  /** Tells who stands behind an actor that is stored here. */
  actors: Actors;
  createdAt: Date;
  /** The form of its collections' triggers. */
  triggers: number;
  /** Whether, while it is open, a number with a fraction makes an integer field one of numbers. */
  widening: boolean;
};
export type KeyHolder = {
  environment: Environment;
  client: { name: string; kind: string; origins: readonly string[] };
  key: { id: string; kind: 'client' | 'server'; name: string; scopes: readonly Scope[] };
};
export type SignedInUser = { id: string; roles: readonly string[]; sessionId: string };
export type SignedInMember = { id: string; email: string; name: string; owner: boolean; via: 'cookie' | 'token'; tokenHash: string };

export type Call<O = AnyOperation> = {
  /** A UUIDv7: answered as `Orchard-Request`, and the id of the recorded request. */
  id: string;
  operation: AnyOperation;
  request: Request;
  response: Response;
  headers: IncomingHttpHeaders;
  /** Milliseconds since 1970 when it came in. */
  at: number;
  startedNs: bigint;
  trace: TraceContext;
  parentSpan: string | null;
  cost: DatabaseCost;
  bytes: AnswerBytes;
  holder: KeyHolder | null;
  user: SignedInUser | null;
  member: SignedInMember | null;
  /** The member's role in the environment that the path names. */
  role: Role | null;
  /** The environment that the key or the path names. */
  environment: Environment | null;
  params: ParamsOf<O>;
  query: QueryOf<O>;
  body: BodyOf<O>;
  problem: Problem | null;
};

/** What a handler answers; without a status, the operation's own. */
export type Answer<Body> = { body: Body; status?: number; headers?: Record<string, string> };
// biome-ignore lint/suspicious/noExplicitAny: a route of any operation
export type Route = { operation: AnyOperation; handle: (call: Call<any>) => Promise<Answer<any> | 'streaming'> };

/** Binds an operation to its handler, with both checked against each other. */
export function bind<O extends AnyOperation>(operation: O, handle: (call: Call<O>) => Promise<Answer<ReplyOf<O>> | 'streaming'>): Route {
  return { operation, handle };
}

/** Binds an app's call and its twin for members to one handler. */
export function bindBoth<O extends AnyOperation>(
  app: O,
  members: AnyOperation,
  handle: (call: Call<O>) => Promise<Answer<ReplyOf<O>> | 'streaming'>,
): Route[] {
  return [bind(app, handle), { operation: members, handle }];
}

/** The environment of a call whose caller or path names one. */
export function environmentOf(call: Pick<Call, 'environment'>): Environment {
  if (!call.environment) throw new Problem('unexpected', 'The call names no environment.');
  return call.environment;
}

/**
 * Whether refusals in an environment say what the rule asks for: `dev` always does, `live` never, and an environment
 * that a team added does as long as it is open.
 */
export const explainsRefusals = ({ name, mode }: Pick<Environment, 'name' | 'mode'>): boolean =>
  name === 'dev' || (name !== 'live' && mode === 'open');

/** A refusal that does not say what the rule asks for. @param rule such as «The read rule of `huts`» */
export const untold = (rule: string, { userId }: { userId: string | null }): string =>
  userId === null
    ? `${rule} refuses this: nobody is signed in. Sign in, and try again.`
    : `${rule} refuses this user. The team of the app finds the reason at the request with this id.`;

/** Who makes a call. A user of an app is meant before the app that the user holds. */
export function actorOf({ member, user, holder }: Pick<Call, 'member' | 'user' | 'holder'>): Actor {
  if (member) return { kind: 'member', id: member.id };
  if (holder?.key.kind === 'server') return { kind: 'server', id: `${holder.client.name}/${holder.key.name}` };
  if (user) return { kind: 'user', id: user.id };
  return holder ? { kind: 'client', id: holder.client.name } : { kind: 'service', id: null };
}

/** Who makes a call, as it is stored with what they make. */
export const authorOf = (call: Pick<Call, 'member' | 'user' | 'holder'>): string => writeActor(actorOf(call));
