/** What the platform needs from rooms above it: the responsible room fills each port. An unfilled port does nothing. */
import type { AnyOperation, MemberWayKind, ReplyOf, Role, Use } from '@orchard/contract';
import type { CallerKind, CountedKind, JsonObject, LogLevel, ValueKind } from '@orchard/core';
import type { Behaviour } from '@orchard/core/insight';
import type { SessionCheck } from './access/userTokens.js';
import type { Statements } from './database/connection.js';
import type { SqlCondition } from './database/sqlCondition.js';
import type { Call, Environment, SignedInMember } from './call.js';

export type UserRemoval = {
  /** The transaction that removes the user. */
  on: Statements;
  environment: Environment;
  userId: string;
  /** Who removes the user, for records of authorship. */
  by: string;
};

/** One piece of work that is no call: an exchange with a gateway, a run of a job. */
export type WorkDone = {
  kind: Exclude<CountedKind, 'call' | CallerKind>;
  /** Of the gateway; the kind of the job. */
  name: string;
  failed: boolean;
  durationUs: number;
};

/** What went out to an outside system and what came back: addresses of people, tokens and credentials masked. */
export type ExchangeDetails = {
  method: string;
  address: string;
  headers: { request: Record<string, string>; response: Record<string, string> } | null;
  bodies: { request: string | null; response: string | null };
};

/** One call that went out. */
export type Exchange = {
  gateway: string;
  failed: boolean;
  durationUs: number;
  /** As HTTP would give it: 0 without a response. */
  status: number;
  /** Why it was not accepted, in one name; null: it was. */
  problem: 'address-gone' | 'message-refused' | 'credentials-refused' | 'try-later' | 'unreachable' | null;
  /** The same in words. */
  reason: string | null;
  /** Of the call that led to it. */
  trace: string | null;
  deviceId: string | null;
  /** Asked for only when it is kept. */
  details: () => ExchangeDetails;
};

/** People by what they did: counted, kept as sets, and at most some minutes old. */
export type BehaviourPort = {
  /**
   * Sees to it that these are counted. Called before a transaction that uses {@link sql}.
   * @returns as of when
   * @throws {Problem} malformed-filter
   */
  prepare: (environment: Environment, wanted: readonly Behaviour[]) => Promise<Date | null>;
  /** How often whoever uses device `v` now did it: a number. */
  sql: (environment: Pick<Environment, 'db'>, behaviour: Behaviour) => SqlCondition;
};

type Addressed = { id: string; email: string | null; name: string | null };

/** Mails that accounts get when something happens to them. */
export type AccountPort = {
  /** Somebody has to confirm the address. Nothing happens without a way to mail. */
  confirm: (environment: Environment, user: Addressed, locale: string) => Promise<void>;
  /** Somebody signed up with the address of an account. */
  taken: (environment: Environment, user: Addressed, locale: string) => void;
  /** A sign-in from a place that was not used before. */
  signedIn: (environment: Environment, user: Addressed, from: { client: string; locale: string }) => void;
  deleted: (environment: Environment, user: Addressed, locale: string) => void;
};

/** Second factors of users. */
export type UserFactorPort = {
  /** @throws {Problem} second-factor-needed, with a ticket, for a user who has one */
  demand: (environment: Environment, userId: string, client: string) => Promise<void>;
  /** Whether the user has a second factor. */
  has: (environment: Environment, userId: string) => Promise<boolean>;
};

/** What providers outside have handed out for users: for functions of the team, never for the app. */
export type ProviderTokenPort = {
  /** A valid access token of a user at a provider; null when there is none. */
  accessToken: (environment: Environment, userId: string, way: string) => Promise<string | null>;
  /** The user has signed out everywhere: they are taken back, where the provider can. */
  release: (environment: Environment, userId: string) => Promise<void>;
};

/** What the service itself has to say in an environment. */
export type ServiceEntry = {
  level: LogLevel;
  /** `service`, `gateway` and its name, `job` and its kind. */
  source: string;
  text: string;
  /** A function is asked only when the entry is kept. */
  fields?: JsonObject | (() => JsonObject);
  trace?: string | undefined;
};

/** A certificate that some gateway signs with, and when it ends. */
export type GatewayCertificate = { gateway: string; place: string; expiresAt: Date };

/** A file of a mail; with a `cid`, one that its HTML shows (RFC 2392). */
export type MailFile = { name: string; type: string; content: Buffer; cid?: string };
export type OutgoingMail = { to: string; subject: string; text: string; html?: string; files?: readonly MailFile[] };

export type ReadInput = { params?: Record<string, unknown>; query?: Record<string, unknown>; body?: unknown };

/** Somebody on whose behalf the service reads, with the rights of the moment. */
export type Reader = { member: SignedInMember; role: Role };

/** Whose action it is, as a hook is told. */
export type ActionBy = {
  kind: 'user' | 'client' | 'server';
  userId: string | null;
  roles: readonly string[];
  request: string | null;
  trace: string | null;
};
export type HookedAction = {
  subject: 'users' | 'devices' | 'notifications' | 'events';
  action: 'create' | 'update' | 'delete';
  id: string | null;
  /** What is created, changed or deleted, as the API shows it. */
  value: JsonObject;
};
/** Functions of the team that stand on actions which concern no record. */
export type ActionHooks = {
  /** @returns the value, as hooks changed it @throws {Problem} refused-by-function, function-failed, function-stopped */
  before: (environment: Environment, by: ActionBy, asked: HookedAction) => Promise<JsonObject>;
  /** Whether anything follows from such an action. */
  follows: (environment: Environment, subject: HookedAction['subject'], action: HookedAction['action']) => Promise<boolean>;
  /** Adds what follows from an action, in its transaction; the queue is woken when it is committed. */
  after: (on: Statements, environment: Environment, by: ActionBy, done: HookedAction) => Promise<void>;
};

export type Ports = {
  /** A call has got its response. */
  recordCall: (call: Call, status: number, durationUs: number, bytesOut: number) => void;
  countWork: (environment: Pick<Environment, 'db' | 'id'>, work: WorkDone) => void;
  /** A call to an outside system has ended. */
  recordExchange: (environment: Environment, exchange: Exchange) => void;
  /** Writes to the environment's log, soon. */
  logEntry: (environment: Environment, entry: ServiceEntry) => void;
  /** For tests: called with every response body before it is sent. */
  inspectAnswer: ((call: Call, status: number, body: unknown) => void) | null;
  /** The session of a user's token. */
  findSession: SessionCheck;
  /** The roles of users by session, for valid sessions. */
  goodSessions: (environment: Environment, ids: readonly string[]) => Promise<Map<string, { roles: string[]; fields: JsonObject }>>;
  /** The fields of users that rules may ask for, by kind. */
  userFields: (environment: Environment) => Promise<ReadonlyMap<string, ValueKind>>;
  /**
   * A user is removed; every room deletes or releases what belongs to the user.
   * @throws {Problem} still-referenced
   */
  userRemoved: (removal: UserRemoval) => Promise<void>;
  /**
   * Erases a user who was erased before, and is back with a backup. Where records of the team still need the user, what is
   * personal goes.
   * @returns false when there is no such user
   */
  eraseUser: (environment: Environment, userId: string) => Promise<boolean>;
  /** All that is kept of a user, by room. */
  dataOfUser: (environment: Environment, userId: string) => Promise<JsonObject>;
  /** The countries that these devices reported, by device; those that reported none are left out. */
  countriesOf: (environment: Pick<Environment, 'db'>, deviceIds: readonly string[]) => Promise<Map<string, string>>;
  behaviour: BehaviourPort;
  /** What accounts are told of. */
  accounts: AccountPort;
  userFactors: UserFactorPort;
  providerTokens: ProviderTokenPort;
  /** Groups at providers outside that give roles. */
  roleGroups: (environment: Environment) => Promise<{ role: string; way: string; group: string }[]>;
  /** The address at which a user adds an account at a provider. @throws {Problem} not-found, invalid-input */
  accountAdding: (
    environment: Environment,
    wanted: { client: string; userId: string; way: string; redirectUri: string },
  ) => Promise<string>;
  /** A user signed out on a device. */
  signedOut: (environment: Environment, deviceId: string, userId: string) => Promise<void>;
  /** A device is removed, in this transaction. */
  deviceRemoved: (on: Statements, environment: Environment, deviceId: string) => Promise<void>;
  /** Sends a mail of the installation through a gateway of its own; false if it has none. @throws Error when it is refused */
  mailByGateway: (mail: OutgoingMail) => Promise<boolean>;
  hasMailGateway: () => Promise<boolean>;
  /**
   * Makes a reading call of members as a member would, rights checked.
   * @throws {Problem} role-insufficient, and those of the operation
   */
  readAs: <O extends AnyOperation>(operation: O, reader: Reader, environment: Environment | null, input: ReadInput) => Promise<ReplyOf<O>>;
  /**
   * Makes a call of members as a member would, audited like any other; the caller has checked that they may.
   * @throws {Problem} those of the operation
   */
  callAs: <O extends AnyOperation>(operation: O, reader: Reader, environment: Environment, input: ReadInput) => Promise<ReplyOf<O>>;
  /** Makes a call of a server key's kind for a function of the team, which may do all that such keys may. @throws {Problem} those of the operation */
  callAsFunction: <O extends AnyOperation>(
    operation: O,
    functionName: string,
    environment: Environment,
    input: ReadInput,
    trace?: string,
  ) => Promise<ReplyOf<O>>;
  hooks: ActionHooks;
  /** Which clients called for which collections, functions and upstreams, by the recorded calls. */
  usesOfCalls: (environment: Environment, since: Date) => Promise<Use[]>;
  /** By which verified ways members can be reached, by member. */
  waysOfMembers: () => Promise<Map<string, MemberWayKind[]>>;
  /** A member was removed, in the same unit of work. */
  memberRemoved: (memberId: string) => Promise<void>;
  /** What rooms remember of an environment is read again when it is needed next. */
  forgetRemembered: (environment: Environment) => void;
  environmentCreated: (environment: Environment) => Promise<void>;
  /** An environment's database came from a backup: its tables are migrated, and the rooms' upgrades run there. */
  environmentReturned: (environment: Environment) => Promise<void>;
  environmentRemoved: (environment: Pick<Environment, 'id'>) => Promise<void>;
  /** Of all gateways there are, as they were at most a minute ago. */
  certificates: () => Promise<GatewayCertificate[]>;
  /** Whether a site of the client has this origin. */
  isSiteOrigin: (environment: Environment, client: string, origin: string) => Promise<boolean>;
  /** A web page called from an origin that its client does not list. */
  noteBlockedOrigin: (environmentId: string, client: string, origin: string, route: string) => Promise<void>;
};

export const emptyPorts = (): Ports => ({
  recordCall: () => undefined,
  countWork: () => undefined,
  recordExchange: () => undefined,
  logEntry: () => undefined,
  inspectAnswer: null,
  findSession: async () => null,
  goodSessions: async () => new Map(),
  userFields: async () => new Map(),
  userRemoved: async () => undefined,
  eraseUser: async () => false,
  dataOfUser: async () => ({}),
  countriesOf: async () => new Map(),
  accounts: { confirm: async () => undefined, taken: () => undefined, signedIn: () => undefined, deleted: () => undefined },
  userFactors: { demand: async () => undefined, has: async () => false },
  providerTokens: { accessToken: async () => null, release: async () => undefined },
  roleGroups: async () => [],
  accountAdding: async () => {
    throw new Error('there are no pages of sign-in yet');
  },
  behaviour: { prepare: async () => null, sql: () => ({ sql: '0', values: [] }) },
  signedOut: async () => undefined,
  deviceRemoved: async () => undefined,
  mailByGateway: async () => false,
  hasMailGateway: async () => false,
  callAs: async () => {
    throw new Error('no calls are served yet');
  },
  readAs: async () => {
    throw new Error('no calls are served yet');
  },
  callAsFunction: async () => {
    throw new Error('no calls are served yet');
  },
  hooks: { before: async (_environment, _by, { value }) => value, follows: async () => false, after: async () => undefined },
  usesOfCalls: async () => [],
  waysOfMembers: async () => new Map(),
  memberRemoved: async () => undefined,
  forgetRemembered: () => undefined,
  environmentCreated: async () => undefined,
  environmentReturned: async () => undefined,
  environmentRemoved: async () => undefined,
  certificates: async () => [],
  isSiteOrigin: async () => false,
  noteBlockedOrigin: async () => undefined,
});
