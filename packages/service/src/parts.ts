/** What the capabilities of the service are built from; put together in service.ts. */
import type { Logger } from 'pino';
import type { Directory } from './access/directory.js';
import type { UserTokens } from './access/userTokens.js';
import type { Catalogue } from './collections/catalogue.js';
import type { SlowPatterns } from './collections/slowPatterns.js';
import type { QueryLog } from './collections/queryLog.js';
import type { Config } from './config.js';
import type { Database } from './database/connection.js';
import type { GatewayRefusals } from './gateways/refusals.js';
import type { GatewayDirectory } from './gateways/gatewayDirectory.js';
import type { WebPushGateway } from './gateways/webPush.js';
import type { AnswerLedger } from './http/answerBytes.js';
import type { InstallationMail } from './mail/installationMail.js';
import type { JobQueue } from './jobs/queue.js';
import type { ChangeSignal } from './live/changeSignal.js';
import type { Feed } from './live/feed.js';
import type { StreamRights } from './live/streamRights.js';
import type { MessagingSettings } from './messaging/settings.js';
import type { ResultJournal } from './notifications/journal.js';
import type { Notices } from './notices/notices.js';
import type { Metrics } from './telemetry/metrics.js';
import type { Recorder } from './telemetry/recorder.js';

export type Parts = {
  config: Config;
  log: Logger;
  database: Database;
  secretKey: Buffer;
  /** Signs list cursors. */
  cursorSecret: Buffer;
  /** Milliseconds since 1970. */
  now: () => number;
  /** That many random bytes. */
  random: (bytes: number) => Buffer;
  newId: () => string;
  directory: Directory;
  userTokens: UserTokens;
  catalogue: Catalogue;
  metrics: Metrics;
  recorder: Recorder;
  jobs: JobQueue;
  changes: ChangeSignal;
  feed: Feed;
  streams: StreamRights;
  answers: AnswerLedger;
  queryLog: QueryLog;
  slowPatterns: SlowPatterns;
  webPush: WebPushGateway;
  gateways: GatewayDirectory;
  refusals: GatewayRefusals;
  messaging: MessagingSettings;
  notices: Notices;
  /** For mails to members; null where no server is set. */
  installationMail: InstallationMail | null;
  journal: ResultJournal;
  /** Base address that people and apps use. */
  address: () => string;
};
