/** What a room brings to the service. The service itself names no room; it loops over their list (capabilities.ts). */
import type { Environment, Route } from './call.js';
import type { Worker } from './jobs/queue.js';
import type { Mark } from './live/marks.js';
import type { UserRemoval } from './ports.js';

export type JobKind = {
  work: Worker;
  /** How many of the kind one instance works on at a time. */
  atOnce?: number;
};

/** Work that comes round without being asked for. One environment that fails does not keep the others from theirs. */
export type Periodic = {
  /** What it does, as logs and metrics name it. */
  work: string;
  everyMs: number;
  /** Runs once at the start of the service too. */
  atStart?: boolean;
} & ({ run: () => unknown } | { eachEnvironment: (environment: Environment) => unknown });

/** A room is a function from the parts it stands on to this. */
export type Capability<Offer extends object = object> = {
  name: string;
  /** What rooms after it in the list may use; it becomes part of their `parts`. */
  offer?: Offer;
  routes?: Route[];
  /** By kind. */
  jobs?: Record<string, JobKind>;
  periodic?: Periodic[];
  /** What open pages watch for changes. */
  marks?: Mark[];
  /** Before anything is served, for each environment there is. */
  bringUpToDate?: (environment: Environment) => Promise<void>;
  /** Before jobs are taken and calls are served. */
  prepare?: () => Promise<void>;
  start?: () => Promise<void> | void;
  /** In the reverse order of the rooms, after the last call has been answered. */
  stop?: () => Promise<void> | void;
  /** The environment's database is there; nobody can see the environment yet. */
  onEnvironmentCreated?: (environment: Environment) => Promise<void>;
  /** In the transaction in which a user is removed. */
  onUserRemoved?: (removal: UserRemoval) => Promise<void>;
};
