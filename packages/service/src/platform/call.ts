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
import { type Actor, type JsonObject, type Span, type TraceContext, writeActor } from '@orchard/core';
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
  /** The address of the installation that it has moved to; null for one that lives here. */
  movedTo: string | null;
  keys: EnvironmentKeys;
  /** The id that its credentials are sealed with: its own, but of one that was restored from a backup. */
  sealedFor: string;
  /** Tells who stands behind an actor that is stored here. */
  actors: Actors;
  /** Whether the rights of maintainers and owners need a second factor here. */
  demandsSecondFactor: boolean;
  createdAt: Date;
  /** The form of its collections' triggers. */
  triggers: number;
  /** Whether, while it is open, a number with a fraction makes an integer field one of numbers. */
  widening: boolean;
  /** For one call: what functions of the team demand of records that it reads, by collection, besides the rules. */
  narrowing?: Readonly<Record<string, string>>;
};
export type KeyHolder = {
  environment: Environment;
  client: { name: string; kind: string; origins: readonly string[] };
  key: { id: string; kind: 'client' | 'server'; name: string; scopes: readonly Scope[] };
  /** The function of the team that calls; there is no key then. */
  functionName?: string;
};
export type SignedInUser = {
  id: string;
  roles: readonly string[];
  /** Those of the team’s fields that rules may ask for. */
  fields: JsonObject;
  sessionId: string;
  /** The member who looks at the app as this user, for support. */
  support?: string | null;
};
/** A member, or an automation token, which has a name and roles but no mail address. */
export type SignedInMember = {
  id: string;
  email: string;
  name: string;
  owner: boolean;
  via: 'cookie' | 'token' | 'automation';
  tokenHash: string;
  /** When it was last proved who this is, in milliseconds since 1970. */
  confirmedAt: number;
  /** Whether there is one; a token needs none. */
  secondFactor: boolean;
};

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
  /** Its steps so far. */
  spans: Span[];
  bytes: AnswerBytes;
  holder: KeyHolder | null;
  user: SignedInUser | null;
  member: SignedInMember | null;
  /** The member's role in the environment of the path. */
  role: Role | null;
  /** Whether the member's role is a higher one, which needs a second factor that is missing. */
  heldBack: boolean;
  /** The environment that the key or the path names. */
  environment: Environment | null;
  params: ParamsOf<O>;
  query: QueryOf<O>;
  body: BodyOf<O>;
  problem: Problem | null;
  /** What it was for, where its path does not name that. */
  target?: string;
};

/** The result of a handler; without a status, the operation's own applies. */
export type Answer<Body> = { body: Body; status?: number; headers?: Record<string, string> };
export type Route = {
  operation: AnyOperation;
  // biome-ignore lint/suspicious/noExplicitAny: a route of any operation
  handle: (call: Call<any>) => Promise<Answer<any> | 'streaming'>;
  // biome-ignore lint/suspicious/noExplicitAny: a route of any operation
  audited?: Audited<any> | undefined;
};

/** What a call that names one thing by its path has, whichever operation it is. */
export type Naming<Params> = Pick<Call, 'environment' | 'member' | 'role' | 'heldBack'> & { params: Params };

/** How a change is audited, where path and reply do not say enough. See audit/auditedCall.ts. */
export type Audited<O> = {
  /** What the entry names; without it, the parameters of the path, and for something new its name or id. */
  subject?: (call: Call<O>) => string;
  /** The document of what is changed, before and after; null if there is none. Without it, the reply is what the entry keeps. */
  read?: (call: Call<O>) => Promise<unknown>;
  /** What the entry keeps of the reply. */
  after?: (reply: ReplyOf<O>, call: Call<O>) => unknown;
  /**
   * `unit`, the default: the handler and its entry are one transaction. `apart`: the handler changes tables, or waits for
   * others; an entry before it and one after it stand in transactions of their own. `own`: the handler writes the entry.
   */
  as?: 'unit' | 'apart' | 'own';
};

/** Binds an operation to its handler, with both checked against each other. */
export function bind<O extends AnyOperation>(
  operation: O,
  handle: (call: Call<O>) => Promise<Answer<ReplyOf<O>> | 'streaming'>,
  audited?: Audited<NoInfer<O>>,
): Route {
  return { operation, handle, audited };
}

/** Binds an app's call and its twin for members to one handler. */
export function bindBoth<O extends AnyOperation>(
  app: O,
  members: AnyOperation,
  handle: (call: Call<O>) => Promise<Answer<ReplyOf<O>> | 'streaming'>,
  audited?: Audited<NoInfer<O>>,
): Route[] {
  return [bind(app, handle), { operation: members, handle, audited }];
}

/** The environment of a call whose caller or path names one. */
export function environmentOf(call: Pick<Call, 'environment'>): Environment {
  if (!call.environment) throw new Problem('unexpected', 'The call names no environment.');
  return call.environment;
}

/** Whether refusals in an environment show the rule: always in `dev`, never in `live`, and in others while they are open. */
export const explainsRefusals = ({ name, mode }: Pick<Environment, 'name' | 'mode'>): boolean =>
  name === 'dev' || (name !== 'live' && mode === 'open');

/**
 * A refusal that does not show the rule.
 * @param rule such as "The read rule of `huts`"
 */
export const untold = (rule: string, { userId }: { userId: string | null }): string =>
  userId === null
    ? `${rule} refuses this: nobody is signed in. Sign in, and try again.`
    : `${rule} refuses this user. The team of the app can see the reason at the request with this id.`;

/** Who is refused, and whether they are told the rule. */
export type Refused = { told: boolean; userId: string | null };
export const refusedOf = (call: Pick<Call, 'environment' | 'user'>): Refused => ({
  told: explainsRefusals(environmentOf(call)),
  userId: call.user?.id ?? null,
});

/**
 * A refusal by a rule: in whole to those who are told, and with the rule for the team alone to others.
 * @param rule such as "The rule of channel ridge for publishing" @param full all of it, with the rule itself
 */
export function refusedBy({ told, userId }: Refused, rule: string, full: string): Problem {
  return told ? new Problem('access-refused', full) : new Problem('access-refused', untold(rule, { userId }), { teamDetail: full });
}

/** Who makes a call: the user if there is one, otherwise the client. */
export function actorOf({ member, user, holder }: Pick<Call, 'member' | 'user' | 'holder'>): Actor {
  if (holder?.functionName) return { kind: 'function', id: holder.functionName };
  if (member) return { kind: member.via === 'automation' ? 'token' : 'member', id: member.id };
  if (holder?.key.kind === 'server') return { kind: 'server', id: `${holder.client.name}/${holder.key.name}` };
  // Whoever looks at the app as a user does what they do themselves.
  if (user?.support) return { kind: 'member', id: user.support };
  if (user) return { kind: 'user', id: user.id };
  return holder ? { kind: 'client', id: holder.client.name } : { kind: 'service', id: null };
}

/** Who makes a call, in stored form. */
export const authorOf = (call: Pick<Call, 'member' | 'user' | 'holder'>): string => writeActor(actorOf(call));
