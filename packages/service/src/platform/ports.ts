/**
 * What the platform asks of rooms above it, which it does not know: each port is filled by the room that can answer.
 * Until then nothing happens.
 */
import type { SessionCheck } from './access/userTokens.js';
import type { Statements } from './database/connection.js';
import type { Call, Environment } from './call.js';

export type UserRemoval = {
  /** The transaction in which the user goes. */
  on: Statements;
  environment: Environment;
  userId: string;
  /** Who removes the user, for records of authorship. */
  by: string;
};

export type Ports = {
  /** A call has been answered. */
  recordCall: (call: Call, status: number, durationUs: number, bytesOut: number) => void;
  /** For tests: told every answer that has a body, before it is sent. */
  inspectAnswer: ((call: Call, status: number, body: unknown) => void) | null;
  /** A web page called from an origin that its client does not list. */
  /** The session of a user's token. */
  findSession: SessionCheck;
  /** The roles of users by their sessions, where those are still good. */
  goodSessions: (environment: Environment, ids: readonly string[]) => Promise<Map<string, string[]>>;
  /** A user is removed; every room lets go of what is theirs. @throws {Problem} still-referenced */
  userRemoved: (removal: UserRemoval) => Promise<void>;
  /** A user signed out on a device. */
  signedOut: (environment: Environment, deviceId: string, userId: string) => Promise<void>;
  /** A device is removed, in this transaction. */
  deviceRemoved: (on: Statements, environment: Environment, deviceId: string) => Promise<void>;
  environmentCreated: (environment: Environment) => Promise<void>;
  noteBlockedOrigin: (environmentId: string, client: string, origin: string, route: string) => Promise<void>;
};

export const emptyPorts = (): Ports => ({
  recordCall: () => undefined,
  inspectAnswer: null,
  findSession: async () => null,
  goodSessions: async () => new Map(),
  userRemoved: async () => undefined,
  signedOut: async () => undefined,
  deviceRemoved: async () => undefined,
  environmentCreated: async () => undefined,
  noteBlockedOrigin: async () => undefined,
});
