/** Puts a service together, starts it and stops it. */
import { randomFillSync } from 'node:crypto';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { Problem } from '@orchard/contract';
import { base32, uuidv7 } from '@orchard/core';
import express from 'express';
import mysql from 'mysql2/promise';
import type { Logger } from 'pino';
import { Directory } from './access/directory.js';
import { checkSecretKey } from './access/secretKeyMark.js';
import { deriveKey } from './access/secrets.js';
import { Rates } from './access/steps.js';
import { UserTokens } from './access/userTokens.js';
import { appRoutes } from './apps/routes.js';
import { AppStore } from './apps/store.js';
import { channelRoutes } from './channels/routes.js';
import { Catalogue } from './collections/catalogue.js';
import { collectionRoutes } from './collections/manageRoutes.js';
import { QueryLog } from './collections/queryLog.js';
import { managedRecordRoutes, recordRoutes } from './collections/routes.js';
import { tendCollections } from './collections/tending.js';
import type { Config } from './config.js';
import { holdDataDirectory, readHolderName, readSecretKey } from './dataDirectory.js';
import { type Database, isDatabaseAway, openDatabase } from './database/connection.js';
import { environmentDatabase, migrateEnvironment, migrateSystem } from './database/migrate.js';
import { startDatabaseServer } from './database/server.js';
import { deviceRoutes } from './devices/routes.js';
import { tendDevices } from './devices/tending.js';
import { watchExpiry } from './gateways/expiry.js';
import { GatewayDirectory } from './gateways/gatewayDirectory.js';
import { gatewayRoutes } from './gateways/routes.js';
import { WebPushGateway } from './gateways/webPush.js';
import { answerPreflight } from './http/crossOrigin.js';
import { servePages } from './http/pages.js';
import { serveRoutes, serveUnknown } from './http/pipeline.js';
import { JobQueue } from './jobs/queue.js';
import { createLog } from './log.js';
import { ChangeSignal } from './live/changeSignal.js';
import { Feed } from './live/feed.js';
import { receiveBounces } from './mail/bounces.js';
import { isSetupNeeded, makeSetupToken } from './members/setup.js';
import { memberRoutes } from './members/routes.js';
import { MessagingSettings } from './messaging/settings.js';
import { Notices } from './notices/notices.js';
import { noticeRoutes } from './notices/routes.js';
import { ResultJournal } from './notifications/journal.js';
import { finishLeftBehind } from './notifications/life.js';
import { notificationRoutes } from './notifications/routes.js';
import { writeLeftResults } from './notifications/sending.js';
import { NotificationStore } from './notifications/store.js';
import type { Parts } from './parts.js';
import { Metrics } from './telemetry/metrics.js';
import { keepPartitions } from './telemetry/partitions.js';
import { INSTALLATION, Recorder } from './telemetry/recorder.js';
import { telemetryRoutes } from './telemetry/routes.js';
import { smsEvents } from './sms/inbox.js';
import { smsRoutes } from './sms/routes.js';
import { topicRoutes } from './topics/routes.js';
import { UserStore } from './users/store.js';
import { userRoutes } from './users/routes.js';

const HOUR_MS = 3_600_000;
const GRACE_MS = 10_000;
/** How often what an ended instance left behind is looked for. */
const SWEEP_MS = 20_000;
/** How often the links to SMS centres are looked after. */
const LINKS_MS = 3_000;

export type RunningService = {
  /** Base address. */
  address: string;
  /** Where the owner account is made, when there is none yet. */
  setupAddress: string | null;
  parts: Parts;
  /** Process id of the service's own MariaDB, if it runs one. */
  databasePid: () => number | undefined;
  /** Finishes requests, writes recorded calls, gives jobs back, ends MariaDB. */
  stop: () => Promise<void>;
};

export async function startService(config: Config, log = createLog(config.logLevel)): Promise<RunningService> {
  const releaseDirectory = holdDataDirectory(config.dataDirectory);
  const undo: (() => unknown)[] = [releaseDirectory];
  try {
    return await assemble(config, log, undo);
  } catch (error) {
    for (const step of undo.reverse()) await step();
    throw error;
  }
}

async function assemble(config: Config, log: Logger, undo: (() => unknown)[]): Promise<RunningService> {
  const server = config.databaseUrl ? null : await startDatabaseServer(config.dataDirectory, log);
  if (server) undo.push(() => server.stop());
  const url = config.databaseUrl ?? (server?.url as string);
  await createSystemDatabase(url);
  const database = openDatabase(url);
  undo.push(() => database.close());
  await migrateSystem(database);
  await migrateEnvironment(database, INSTALLATION);

  let address = config.publicUrl ?? '';
  const metrics = new Metrics();
  const parts = buildParts(config, log, database, metrics, () => address);
  await checkSecretKey(database, parts.secretKey);
  for (const environment of await parts.directory.allEnvironments()) {
    await migrateEnvironment(database, environment.id);
    await parts.catalogue.repair(environment);
  }
  await writeLeftResults(parts, new NotificationStore(database));
  await tend(parts);

  const app = buildApp(parts, metrics, config);
  const http = createServer(app);
  http.keepAliveTimeout = 65_000;
  await new Promise<void>((resolve, reject) => http.once('error', reject).listen(config.port, config.host, resolve));
  const { port } = http.address() as AddressInfo;
  address ||= `http://${config.host === '0.0.0.0' || config.host === '::' ? 'localhost' : config.host}:${port}`;
  const endBounces = config.bouncePort ? await receiveBounces(parts, config.bouncePort, config.host) : null;
  parts.recorder.start();
  parts.queryLog.start();
  await parts.jobs.start();
  const tending = setInterval(() => void tend(parts), HOUR_MS);
  const sweeping = setInterval(
    () => void sweep(parts).catch((error) => isDatabaseAway(error) || log.error({ err: error }, 'notifications could not be looked after')),
    SWEEP_MS,
  );
  const linking = setInterval(
    () => void parts.gateways.keepLinks().catch((error) => isDatabaseAway(error) || log.error({ err: error }, 'links to SMS centres')),
    LINKS_MS,
  );
  void parts.gateways.keepLinks().catch(() => undefined);
  const noting = setInterval(() => void new AppStore(parts).noteUse(parts.directory.takeUsedKeys()).catch(() => undefined), 5_000);
  const setupAddress = (await isSetupNeeded(parts)) ? `${address}/setup?token=${await makeSetupToken(parts)}` : null;
  log.info({ address }, 'the service is ready');

  return {
    address,
    setupAddress,
    parts,
    databasePid: () => server?.pid(),
    stop: async () => {
      clearInterval(tending);
      clearInterval(noting);
      clearInterval(linking);
      clearInterval(sweeping);
      await endBounces?.();
      await stopServing(http, parts);
      await parts.jobs.stop();
      parts.gateways.close();
      await parts.webPush.close();
      parts.journal.close();
      await parts.recorder.stop();
      await parts.queryLog.stop();
      for (const step of undo.reverse()) await step();
      log.info('the service has stopped');
    },
  };
}

/** With an outside server the system database may have to be made, and the server may still be starting. */
async function createSystemDatabase(url: string): Promise<void> {
  const name = decodeURIComponent(new URL(url).pathname.slice(1)) || 'orchard';
  const bare = new URL(url.replace(/^mariadb:/, 'mysql:'));
  bare.pathname = '/';
  try {
    const connection = await mysql.createConnection({ uri: bare.toString(), connectTimeout: 10_000 });
    await connection.query(`CREATE DATABASE IF NOT EXISTS \`${name.replaceAll('`', '')}\` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`);
    await connection.end();
  } catch (error) {
    throw new Error(
      `The database at ${bare.host} cannot be used: ${(error as Error).message}. Check ORCHARD_DATABASE_URL, and that its user may create databases named ${name} and ${name}_….`,
    );
  }
}

function buildParts(config: Config, log: Logger, database: Database, metrics: Metrics, address: () => string): Parts {
  const pool = Buffer.alloc(8192);
  let used = pool.length;
  /** Random bytes from a pool: asking the system for each call would cost more than the rest of its bookkeeping. */
  const random = (bytes: number) => {
    if (used + bytes > pool.length) {
      randomFillSync(pool);
      used = 0;
    }
    used += bytes;
    return Buffer.from(pool.subarray(used - bytes, used));
  };
  const now = () => Date.now();
  const newId = () => uuidv7(now(), random(10));
  const instance = base32(random(8));
  const secretKey = readSecretKey(config.dataDirectory, config.secretKey);
  const changes = new ChangeSignal();
  const users = new UserStore(database);
  const webPush = new WebPushGateway(database, secretKey, { now, random }, config.pushOrigins, address);
  // What SMS centres bring needs the parts, which are whole by the time the first of it comes in.
  const parts: Parts = {
    config,
    log,
    database,
    secretKey,
    now,
    random,
    newId,
    address,
    changes,
    feed: new Feed(database, changes, log),
    queryLog: new QueryLog(database, now, log),
    cursorSecret: deriveKey(secretKey, 'cursors'),
    directory: new Directory(database),
    userTokens: new UserTokens(secretKey, now, async (environment, id) => {
      const found = await users.findSession(environment, id);
      return (
        found && { userId: found.user.id, roles: found.user.roles, ended: found.session.endedAt !== null, disabled: found.user.disabled }
      );
    }),
    catalogue: new Catalogue(database, now),
    recorder: new Recorder(database, instance, now, metrics, changes, log),
    jobs: new JobQueue(database, readHolderName(config.dataDirectory), now, newId, log),
    webPush,
    gateways: new GatewayDirectory(database, secretKey, { now, random }, webPush, (environmentId, gateway) =>
      smsEvents(parts, environmentId, gateway),
    ),
    messaging: new MessagingSettings(database),
    notices: new Notices(database, { now, newId }),
    journal: new ResultJournal(config.dataDirectory),
  };
  return parts;
}

function buildApp(parts: Parts, metrics: Metrics, config: Config): express.Express {
  const app = express();
  const rates = new Rates(config.rates);
  app.set('etag', false);
  app.set('x-powered-by', false);
  app.set('trust proxy', config.trustedProxies);
  app.use('/app/v1', (request, response, next) => (request.method === 'OPTIONS' ? answerPreflight(request, response) : next()));
  app.use(['/app', '/manage'], (_request, response, next) => {
    response.setHeader('X-Content-Type-Options', 'nosniff');
    response.setHeader('Cache-Control', 'no-store');
    next();
  });
  app.use(
    serveRoutes(
      parts,
      [
        ...recordRoutes(parts),
        ...userRoutes(parts),
        ...deviceRoutes(parts),
        ...topicRoutes(parts),
        ...gatewayRoutes(parts),
        ...notificationRoutes(parts),
        ...smsRoutes(parts),
        ...channelRoutes(parts),
        ...noticeRoutes(parts),
        ...memberRoutes(parts),
        ...appRoutes(parts),
        ...collectionRoutes(parts),
        ...managedRecordRoutes(parts),
        ...telemetryRoutes(parts),
      ],
      rates,
    ),
  );
  app.use(serveUnknown(parts, '/app/v1', rates));
  app.use(serveUnknown(parts, '/manage/v1', rates));
  app.use(servePages(parts, metrics));
  app.use((error: Error, _request: express.Request, response: express.Response, next: express.NextFunction) => {
    if (response.headersSent) return next(error);
    const malformed = error instanceof URIError;
    if (!malformed) parts.log.error({ err: error }, 'a call failed before it was routed');
    const problem = malformed
      ? new Problem('invalid-input', 'The address holds a % that does not begin a percent-encoded byte. Encode it as %25.')
      : new Problem('unexpected');
    response.status(problem.status).type('application/problem+json').send(JSON.stringify(problem.toDocument()));
  });
  return app;
}

/** Keeps the daily partitions of every environment, and ends what was kept long enough. */
async function tend(parts: Parts): Promise<void> {
  try {
    const environments = await parts.directory.allEnvironments();
    for (const environment of environments) await tendCollections(parts, environment);
    for (const environment of environments) await tendDevices(parts, environment);
    await watchExpiry(parts, environments);
    for (const id of [INSTALLATION, ...environments.map((environment) => environment.id)])
      await keepPartitions(parts.database, environmentDatabase(parts.database, id), parts.now(), parts.config.requestDays);
  } catch (error) {
    if (!isDatabaseAway(error)) throw error;
  }
}

async function sweep(parts: Parts): Promise<void> {
  const store = new NotificationStore(parts.database);
  for (const environment of await parts.directory.allEnvironments()) await finishLeftBehind(parts, store, environment);
}

/** No new connections, streams end, running requests have a while to finish. */
async function stopServing(http: Server, parts: Parts): Promise<void> {
  const closed = new Promise((resolve) => http.close(resolve));
  parts.changes.close();
  http.closeIdleConnections();
  const impatient = setTimeout(() => http.closeAllConnections(), GRACE_MS);
  await closed;
  clearTimeout(impatient);
}
