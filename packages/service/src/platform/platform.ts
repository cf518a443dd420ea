/** What every room builds on; assembled in service.ts. */
import type { Logger } from 'pino';
import type { Actors } from './actors.js';
import type { Audit } from './audit/audit.js';
import type { Directory } from './access/directory.js';
import type { MemberDirectory } from './access/memberDirectory.js';
import type { SignInHosts } from './access/signInHosts.js';
import type { UserTokens } from './access/userTokens.js';
import type { Config } from './config.js';
import type { DatabaseClock } from './database/clock.js';
import type { Database } from './database/connection.js';
import type { Servers } from './database/servers.js';
import type { AnswerLedger } from './http/answerBytes.js';
import type { JobQueue } from './jobs/queue.js';
import type { ChangeSignal } from './live/changeSignal.js';
import type { Feed } from './live/feed.js';
import type { StreamRights } from './live/streamRights.js';
import type { Mark } from './live/marks.js';
import type { Metrics } from './metrics.js';
import type { Instances } from './instances/instances.js';
import type { Ports } from './ports.js';

export type Platform = {
  config: Config;
  log: Logger;
  /** Names this process among those that serve the same databases. */
  instance: string;
  /** This one and the others that are there. */
  instances: Instances;
  servers: Servers;
  /** The system database; what belongs to an environment stands in the environment's own. */
  database: Database;
  secretKey: Buffer;
  /** Signs list cursors. */
  cursorSecret: Buffer;
  /** Milliseconds since 1970. */
  now: () => number;
  /** The database's clock, which all instances share. */
  clock: DatabaseClock;
  /** Returns that many random bytes. */
  random: (bytes: number) => Buffer;
  newId: () => string;
  /** Base address that people and apps use. */
  address: () => string;
  directory: Directory;
  members: MemberDirectory;
  actors: Actors;
  audit: Audit;
  userTokens: UserTokens;
  signInHosts: SignInHosts;
  metrics: Metrics;
  jobs: JobQueue;
  changes: ChangeSignal;
  feed: Feed;
  streams: StreamRights;
  answers: AnswerLedger;
  ports: Ports;
  /** What open pages watch for changes: brought by the rooms. */
  marks: Mark[];
};
