/** What a room contributes to the service. The service itself names no room; it loops over their list (capabilities.ts). */
import type { JsonObject } from '@orchard/core';
import type { Request, Response } from 'express';
import type { Environment, Route } from './call.js';
import type { JobKind } from './jobs/queue.js';
import type { Mark } from './live/marks.js';
import type { UserRemoval } from './ports.js';

/** Recurring work. A failure in one environment does not affect the others. */
export type Recurring = {
  /** What it does, as logs, metrics and its job name it. */
  work: string;
  everyMs: number;
} & ({ run: () => unknown } | { eachEnvironment: (environment: Environment) => unknown });

/** What environments of earlier versions need once. */
export type Upgrade = {
  /** Those that need it. Asked for all at once, at each start: there may be hundreds. */
  needed: (environments: readonly Environment[]) => Promise<readonly Environment[]>;
  run: (environment: Environment) => Promise<unknown>;
};

/** A room is a function from the parts it stands on to this. */
export type Capability<Offer extends object = object> = {
  name: string;
  /** What later rooms may use; it becomes part of their `parts`. */
  offer?: Offer;
  routes?: Route[];
  /** By kind. */
  jobs?: Record<string, JobKind>;
  /** Serves calls of a host that is the room's; false where it is not. */
  serveHost?: (request: Request, response: Response) => Promise<boolean>;
  /** Done by one instance, whichever is free. */
  recurring?: Recurring[];
  /** Done by every instance for itself, first when it starts. */
  onEveryInstance?: Extract<Recurring, { run: unknown }>[];
  /** What open pages watch for changes. */
  marks?: Mark[];
  /** Before anything is served, and in an environment that came back. */
  upgrade?: Upgrade;
  /** Before jobs are taken and calls are served. */
  prepare?: () => Promise<void>;
  start?: () => Promise<void> | void;
  /** In the reverse order of the rooms, after the last call has been answered. */
  stop?: () => Promise<void> | void;
  /** Lets go of what this instance remembers of an environment: another one may have changed it a moment ago. */
  forget?: (environment: Environment) => void;
  /** The environment's database exists; the environment is not visible yet. */
  onEnvironmentCreated?: (environment: Environment) => Promise<void>;
  /** The environment was deleted, with its database. */
  onEnvironmentRemoved?: (environment: Pick<Environment, 'id'>) => Promise<void>;
  /** What the room keeps of a user, for themselves: named parts of one JSON document. */
  dataOfUser?: (environment: Environment, userId: string) => Promise<JsonObject>;
  /** In the transaction in which a user is removed. */
  onUserRemoved?: (removal: UserRemoval) => Promise<void>;
};
