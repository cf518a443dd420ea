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
import { forgetGuesses } from './access/guesses.js';
import { deriveKey } from './access/secrets.js';
import { Rates } from './access/steps.js';
import { UserTokens } from './access/userTokens.js';
import { appRoutes } from './apps/routes.js';
import { AppStore } from './apps/store.js';
import { channelRoutes } from './channels/routes.js';
import { Catalogue } from './collections/catalogue.js';
import { collectionRoutes } from './collections/manageRoutes.js';
import { QueryLog } from './collections/queryLog.js';
import { SlowPatterns } from './collections/slowPatterns.js';
import { managedRecordRoutes, recordRoutes } from './collections/routes.js';
import { TRIGGER_FORMAT } from './collections/tables.js';
import { tendCollections } from './collections/tending.js';
import type { Config } from './config.js';
import { holdDataDirectory, readHolderName, readSecretKey } from './dataDirectory.js';
import { type Database, openDatabase } from './database/connection.js';
import { environmentDatabase, migrateEnvironment, migrateSystem } from './database/migrate.js';
import { startDatabaseServer } from './database/server.js';
import { deviceRoutes } from './devices/routes.js';
import { tendDevices } from './devices/tending.js';
import { watchExpiry } from './gateways/expiry.js';
import { GatewayDirectory } from './gateways/gatewayDirectory.js';
import { GatewayRefusals } from './gateways/refusals.js';
import { gatewayRoutes } from './gateways/routes.js';
import { WebPushGateway } from './gateways/webPush.js';
import { AnswerLedger } from './http/answerBytes.js';
import { answerPreflight } from './http/crossOrigin.js';
import { servePages } from './http/pages.js';
import { answerBrokenCalls } from './http/brokenCalls.js';
import type { Environment } from './http/call.js';
import { serveRoutes, serveUnknown } from './http/pipeline.js';
import { JobQueue } from './jobs/queue.js';
import { createLog } from './log.js';
import { ChangeSignal } from './live/changeSignal.js';
import { Feed } from './live/feed.js';
import { StreamRights } from './live/streamRights.js';
import { receiveBounces } from './mail/bounces.js';
import { InstallationMail } from './mail/installationMail.js';
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
import { jobRoutes } from './jobs/routes.js';
import type { Parts } from './parts.js';
import { Metrics } from './telemetry/metrics.js';
import { keepPartitions } from './telemetry/partitions.js';
import { INSTALLATION, Recorder } from './telemetry/recorder.js';
import { telemetryRoutes } from './telemetry/routes.js';
import { smsEvents } from './sms/inbox.js';
import { smsRoutes } from './sms/routes.js';
import { topicRoutes } from './topics/routes.js';
import { UserStore } from './users/store.js';
import { every, forEachEnvironment, guarded } from './upkeep.js';
import { userRoutes } from './users/routes.js';

const HOUR_MS = 3_600_000;
const GRACE_MS = 10_000;
/** How often what an ended instance left behind is looked for. */
const SWEEP_MS = 20_000;
/** Connections to the database; so many instances share the statements its server keeps prepared. */
const CONNECTIONS = 20;
const INSTANCES_FIT = 4;
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
  const mostStatements = await createSystemDatabase(url);
  const database = openDatabase(url, CONNECTIONS, mostStatements / INSTANCES_FIT);
  undo.push(() => database.close());
  await migrateSystem(database);
  await migrateEnvironment(database, INSTALLATION);

  let address = config.publicUrl ?? '';
  const parts = buildParts(config, log, database, () => address);
  await checkSecretKey(database, parts.secretKey);
  await forEachEnvironment(parts, 'bring an environment up to date', await parts.directory.allEnvironments(), (environment) =>
    bringUpToDate(parts, environment),
  );
  await writeLeftResults(parts, new NotificationStore(database));

  const app = buildApp(parts, config);
  const http = createServer(app);
  http.keepAliveTimeout = 65_000;
  answerBrokenCalls(http);
  await new Promise<void>((resolve, reject) => http.once('error', reject).listen(config.port, config.host, resolve));
  const { port } = http.address() as AddressInfo;
  address ||= `http://${config.host === '0.0.0.0' || config.host === '::' ? 'localhost' : config.host}:${port}`;
  const endBounces = config.bouncePort ? await receiveBounces(parts, config.bouncePort, config.host) : null;
  parts.recorder.start();
  parts.queryLog.start();
  await parts.jobs.start();
  const firstUpkeep = guarded(parts, 'hourly upkeep', {}, () => tend(parts));
  const keepLinks = () =>
    parts.gateways.keepLinks((gateway, error) => guarded(parts, 'links to SMS centres', { gateway }, () => Promise.reject(error)));
  void guarded(parts, 'links to SMS centres', {}, keepLinks);
  const endUpkeep = [
    every(parts, HOUR_MS, 'hourly upkeep', () => tend(parts)),
    every(parts, SWEEP_MS, 'finish what was left behind', () => sweep(parts)),
    every(parts, LINKS_MS, 'links to SMS centres', keepLinks),
    every(parts, 5_000, 'note the use of keys', () => new AppStore(parts).noteUse(parts.directory.takeUsedKeys())),
  ];
  const setupAddress = (await isSetupNeeded(parts)) ? `${address}/setup?token=${await makeSetupToken(parts)}` : null;
  log.info({ address }, 'the service is ready');

  return {
    address,
    setupAddress,
    parts,
    databasePid: () => server?.pid(),
    stop: async () => {
      for (const end of endUpkeep) end();
      await endBounces?.();
      await stopServing(http, parts);
      parts.streams.stop();
      await parts.jobs.stop();
      await firstUpkeep;
      parts.installationMail?.close();
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

/** Its tables as this version needs them, and the triggers of its collections where those have changed. */
async function bringUpToDate(parts: Parts, environment: Environment): Promise<void> {
  await migrateEnvironment(parts.database, environment.id);
  if (environment.triggers >= TRIGGER_FORMAT) return;
  await parts.catalogue.repair(environment);
  await parts.database.change('UPDATE environments SET triggers = ? WHERE id = ?', [TRIGGER_FORMAT, environment.id]);
  parts.directory.forget();
}

/**
 * With an outside server the system database may have to be made, and the server may still be starting.
 * @returns how many prepared statements the server keeps at most
 */
async function createSystemDatabase(url: string): Promise<number> {
  const name = decodeURIComponent(new URL(url).pathname.slice(1)) || 'orchard';
  const bare = new URL(url.replace(/^mariadb:/, 'mysql:'));
  bare.pathname = '/';
  try {
    const connection = await mysql.createConnection({ uri: bare.toString(), connectTimeout: 10_000 });
    await connection.query(`CREATE DATABASE IF NOT EXISTS \`${name.replaceAll('`', '')}\` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`);
    const [[{ most }]] = (await connection.query('SELECT @@GLOBAL.max_prepared_stmt_count AS most')) as unknown as [[{ most: number }]];
    await connection.end();
    return Number(most);
  } catch (error) {
    throw new Error(
      `The database at ${bare.host} cannot be used: ${(error as Error).message}. Check ORCHARD_DATABASE_URL, and that its user may create databases named ${name} and ${name}_….`,
    );
  }
}

function buildParts(config: Config, log: Logger, database: Database, address: () => string): Parts {
  const metrics = new Metrics();
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
  const notices = new Notices(database, { now, newId });
  const webPush = new WebPushGateway(
    database,
    secretKey,
    { now, random },
    config.pushOrigins.filter((origin) => /^https?:/.test(origin)),
    address,
  );
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
    streams: new StreamRights(database, now, log),
    answers: new AnswerLedger(),
    queryLog: new QueryLog(database, now, log),
    slowPatterns: new SlowPatterns(),
    cursorSecret: deriveKey(secretKey, 'cursors'),
    directory: new Directory(database),
    userTokens: new UserTokens(secretKey, now, async (environment, id) => {
      const found = await users.findSession(environment, id);
      return (
        found && { userId: found.user.id, roles: found.user.roles, ended: found.session.endedAt !== null, disabled: found.user.disabled }
      );
    }),
    catalogue: new Catalogue(database, now),
    metrics,
    recorder: new Recorder(database, instance, now, metrics, changes, log),
    jobs: new JobQueue(database, readHolderName(config.dataDirectory), now, newId, log),
    webPush,
    gateways: new GatewayDirectory(
      database,
      secretKey,
      { now, random },
      webPush,
      (environmentId, gateway) => smsEvents(parts, environmentId, gateway),
      config.pushOrigins,
    ),
    messaging: new MessagingSettings(database),
    notices,
    refusals: new GatewayRefusals(database, notices, now),
    installationMail: config.smtpUrl
      ? new InstallationMail({
          url: config.smtpUrl,
          from: config.mailFrom ?? `orchard@${new URL(config.smtpUrl).hostname}`,
          trustFile: config.smtpTrust,
        })
      : null,
    journal: new ResultJournal(config.dataDirectory),
  };
  return parts;
}

function buildApp(parts: Parts, config: Config): express.Express {
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
  const routes = [
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
    ...jobRoutes(parts),
  ];
  app.use(serveRoutes(parts, routes, rates));
  app.use(serveUnknown(parts, '/app/v1', routes, rates));
  app.use(serveUnknown(parts, '/manage/v1', routes, rates));
  app.use(servePages(parts));
  // What no page is served for.
  app.use((request, response) => {
    const problem = new Problem('not-found', `${request.method} ${request.path} is not here. See ${parts.address()}/docs.`);
    response.status(problem.status).type('application/problem+json').send(JSON.stringify(problem.toDocument()));
  });
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
  const environments = await parts.directory.allEnvironments();
  const each = (work: string, run: (environment: Environment) => Promise<unknown>) => forEachEnvironment(parts, work, environments, run, 1);
  await each('look after collections', (environment) => tendCollections(parts, environment));
  await each('look after devices', (environment) => tendDevices(parts, environment));
  await each('forget old guesses', ({ database }) => forgetGuesses(parts, `\`${database}\`._guesses`));
  await guarded(parts, 'forget old guesses', {}, () => forgetGuesses(parts, 'guesses'));
  await guarded(parts, 'certificates that end', {}, () => watchExpiry(parts, environments));
  const partitions = (database: string) => keepPartitions(parts.database, database, parts.now(), parts.config.requestDays);
  await each('partitions of requests', ({ database }) => partitions(database));
  await guarded(parts, 'partitions of requests', {}, () => partitions(environmentDatabase(parts.database, INSTALLATION)));
}

async function sweep(parts: Parts): Promise<void> {
  const store = new NotificationStore(parts.database);
  await forEachEnvironment(parts, 'finish what was left behind', await parts.directory.allEnvironments(), (environment) =>
    finishLeftBehind(parts, store, environment),
  );
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
