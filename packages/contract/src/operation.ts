/** The form in which every API operation is declared, once. */
import type { z } from 'zod';
import type { AuditKind } from './audit.js';
import type { ProblemName } from './problems.js';

/** What each scope of a server key allows, in a sentence. */
export const SCOPE_SENTENCES = {
  'records:read': 'Read every record of every collection, hidden fields and history too, regardless of access rules.',
  'records:write': 'Create, change, restore and delete every record, regardless of access rules.',
  'files:read': 'Read every file and folder, regardless of the rules of folders.',
  'files:write': 'Store, change, move, share and delete every file and folder, regardless of the rules of folders.',
  'broadcasts:send': 'Begin, send and end every broadcast.',
  'broadcasts:watch': 'Watch every broadcast.',
  'users:read': 'Read the accounts of all users: mail address, name, phone number, roles and data.',
  'users:write': 'Create accounts, set roles and data, and disable users.',
  'devices:read': 'Read every device and the topics it follows.',
  'devices:write': 'Register, change and retire every device, and let it follow topics.',
  'notify:send': 'Send notifications, SMS and mail to anybody, and stop or resume what is being sent.',
  'notify:read': 'Read notifications and the outcome of each delivery.',
  'channels:listen': 'Read every channel and who listens on it, regardless of its rules.',
  'functions:call': 'Call every endpoint of the team, whoever it is for.',
  'upstreams:call': 'Call operations of upstreams that are open to servers.',
  'channels:publish': 'Publish on every channel, regardless of its rules.',
} as const;
export type Scope = keyof typeof SCOPE_SENTENCES;
export const SCOPES = Object.keys(SCOPE_SENTENCES) as [Scope, ...Scope[]];

/** The events of a response that took longer than a second: how far it is, and at last one of the other two. */
export const PROGRESS_EVENTS = { progress: 'progress', answer: 'answer', problem: 'problem' } as const;
/** Parts done, of how many. */
export type Progress = { done: number; total: number };

/** From the weakest to the strongest; each may do what those before it may. */
export const ROLES = ['viewer', 'developer', 'maintainer', 'owner'] as const;
export type Role = (typeof ROLES)[number];

/** What each role allows in an environment, in a sentence; each adds to those before it. */
export const ROLE_SENTENCES: Record<Role, string> = {
  viewer: 'Reads everything in the environment, and changes nothing.',
  developer: 'Also changes data, collections, clients and keys, and sends notifications.',
  maintainer: 'Also sets up gateways, opens and closes the environment, and deletes users and devices.',
  owner: 'Also deletes the environment.',
};

export type Caller =
  | { kind: 'anyone' }
  /** A client key; `user` says whether a user must be signed in. With `scope`, a server key that has it may call too. */
  | { kind: 'app'; user: 'required' | 'optional'; scope?: Scope }
  | { kind: 'server'; scope: Scope }
  /** A member; `role` is the least role in the environment (or installation) that the path names. */
  | {
      kind: 'member';
      role: Role;
      /** A person, not an automation token: the call is about the caller's own account, or about the team. */
      person?: true;
    };

export type Method = 'GET' | 'HEAD' | 'POST' | 'PUT' | 'PATCH' | 'DELETE' | 'OPTIONS';

/**
 * `sign-in`: a call that could be used for guessing passwords or codes; few a minute from one address, besides the other limits.
 * `sync`: in place of the limit of the key, since all devices come back at once after an outage.
 */
export type RateClass = 'sign-in' | 'sync';

export type Operation<
  Params extends z.ZodObject = z.ZodObject,
  Query extends z.ZodObject = z.ZodObject,
  Body extends z.ZodType = z.ZodType,
  Reply extends z.ZodType = z.ZodType,
> = {
  /** Unique, `capability.verb`. */
  id: string;
  /** The words of the command that makes this call, such as `topic list` or `app add <name>`. See commandLine.ts. */
  command?: string;
  /** The call in the client library, such as `collection({collection}).list({query})`. See libraryCall.ts. */
  library?: string;
  method: Method;
  /** With `{name}` for each path parameter; one at the end written `{name...}` takes all segments that are left. */
  path: string;
  summary: string;
  caller: Caller;
  params: Params;
  query: Query;
  /** Absent: the call has no body. */
  body?: Body;
  /** Status of success. 204 has no body; `stream` is an event stream. */
  status: 200 | 201 | 202 | 204;
  /** A second status of success with the same body, e.g. 201 of a PUT that created. */
  alsoStatus?: 201;
  reply: Reply;
  /** The team's own code chooses the status of its responses. */
  anyStatus?: true;
  stream?: boolean;
  /** May take long: callers who accept server-sent events are told how far it is. See {@link PROGRESS_EVENTS}. */
  progress?: true;
  /** Media types of a body that the handler reads as a stream, instead of JSON. */
  rawBody?: string[];
  /** Large responses are packed, where the caller accepts gzip (RFC 9110 section 12.5.3). */
  packed?: true;
  /** Media types of a reply that is not JSON. */
  replyTypes?: string[];
  /** A rate limit of its own. */
  rate?: RateClass;
  /** Most bytes of a JSON body, where it is not 1 MB. */
  bodyLimit?: number;
  /** The kind of thing that a member changes with it; every such change is audited. Every write of members says so. */
  changes?: AuditKind | 'nothing';
  /** Asks members to prove again who they are, where that was a while ago. */
  confirmed?: true;
  /** Only the owner of the account may do it: nobody who looks at the app as a user, for support. */
  ownerOnly?: true;
  /** Of an environment: answered also where it has moved to another installation. */
  evenMoved?: true;
  /** Accepts an Idempotency-Key. */
  retrySafe?: boolean;
  /** Headers the caller may send that change what the call does. */
  requestHeaders?: string[];
  /** Headers of a successful response, each with its description. */
  replyHeaders?: Record<string, string>;
  /** Answers 304 without a body where the caller has the current version already (RFC 9110 section 13.1.2). */
  notModified?: boolean;
  /** Functions of the team can stand before and after it. */
  hooked?: Hooked;
  problems: ProblemName[];
};

/** What an action is for hooks: on what, by which id, and which part of body or reply is its value. */
export type Hooked = {
  subject: 'users' | 'devices' | 'notifications' | 'events';
  action: 'create' | 'update' | 'delete';
  /** A parameter of the path, or the user who calls. Without it, the value has an id. */
  id?: string;
  /** `reply`, or a member of it, or what was sent. */
  value: 'body' | 'reply' | { reply: string };
};
/** What a call answers where functions of the team refuse it or fail. */
export const HOOK_PROBLEMS = ['refused-by-function', 'function-failed', 'function-stopped'] as const;

export type AnyOperation = Operation<z.ZodObject, z.ZodObject, z.ZodType, z.ZodType>;
export type ParamsOf<O> = O extends Operation<infer P, infer _Q, infer _B, infer _R> ? z.output<P> : never;
export type QueryOf<O> = O extends Operation<infer _P, infer Q, infer _B, infer _R> ? z.output<Q> : never;
export type QueryInputOf<O> = O extends Operation<infer _P, infer Q, infer _B, infer _R> ? z.input<Q> : never;
export type BodyOf<O> = O extends Operation<infer _P, infer _Q, infer B, infer _R> ? z.output<B> : never;
export type BodyInputOf<O> = O extends Operation<infer _P, infer _Q, infer B, infer _R> ? z.input<B> : never;
export type ReplyOf<O> = O extends Operation<infer _P, infer _Q, infer _B, infer R> ? z.output<R> : never;
