/** Puts a service together, starts it and stops it. It names no room; capabilities.ts lists them. */
import { randomBytes, randomFillSync } from 'node:crypto';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { Problem } from '@orchard/contract';
import { base32, type JsonObject, uuidv7 } from '@orchard/core';
import express from 'express';
import mysql from 'mysql2/promise';
import type { Logger } from 'pino';
import { openRooms, type Parts } from './capabilities.js';
import { Actors } from './platform/actors.js';
import { Audit } from './platform/audit/audit.js';
import { Directory } from './platform/access/directory.js';
import { MemberDirectory } from './platform/access/memberDirectory.js';
import { checkSecretKey } from './platform/access/secretKeyMark.js';
import { deriveKey } from './platform/access/secrets.js';
import { Rates } from './platform/access/steps.js';
import { SigningKeys } from './platform/access/signingKeys.js';
import { SignInHosts } from './platform/access/signInHosts.js';
import { UserTokens } from './platform/access/userTokens.js';
import type { Capability, Recurring } from './platform/capability.js';
import type { Config } from './platform/config.js';
import { holdDataDirectory, readHolderName, readSecretKey } from './platform/dataDirectory.js';
import { DatabaseClock } from './platform/database/clock.js';
import { type Database, openDatabase } from './platform/database/connection.js';
import { migrateEnvironment, migrateSystem } from './platform/database/migrate.js';
import { INSTALLATION, Servers } from './platform/database/servers.js';
import { startDatabaseServer } from './platform/database/server.js';
import { AnswerLedger } from './platform/http/answerBytes.js';
import { answerBrokenCalls } from './platform/http/brokenCalls.js';
import { answerPreflight } from './platform/http/crossOrigin.js';
import { keepSignInHosts } from './platform/http/signInHosts.js';
import { servePages } from './platform/http/pages.js';
import { serveRoutes, serveUnknown } from './platform/http/pipeline.js';
import { takeOverJobs } from './platform/jobs/formerJobs.js';
import { type JobKind, JobQueue } from './platform/jobs/queue.js';
import { Leases } from './platform/database/leases.js';
import { ChangeSignal } from './platform/live/changeSignal.js';
import { Feed } from './platform/live/feed.js';
import { StreamRights } from './platform/live/streamRights.js';
import { createLog } from './platform/log.js';
import { Metrics } from './platform/metrics.js';
import type { Platform } from './platform/platform.js';
import { emptyPorts } from './platform/ports.js';
import { internalCallsOf } from './platform/http/internalCalls.js';
import { every, forEachEnvironment, guarded } from './platform/upkeep.js';
import { isSetupNeeded, makeSetupToken } from './setup/members/setup.js';

const GRACE_MS = 10_000;
/** Connections to the database; this many instances share the server's prepared statements. */
const CONNECTIONS = 20;
const INSTANCES_FIT = 4;

export type RunningService = {
  /** Base address. */
  address: string;
  /** Where to create the owner account, when there is none yet. */
  setupAddress: string | null;
  parts: Parts;
  /** Process id of the service's own MariaDB, if it runs one. */
  databasePid: () => number | undefined;
  /** Finishes requests, writes recorded calls, releases jobs, stops MariaDB. */
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
  const instance = base32(randomBytes(8));
  const servers = new Servers(database, new Leases(database, instance), await openServers(config.databaseServers));
  undo.push(() => servers.close());
  await migrateSystem(servers);
  await migrateEnvironment(servers.installation);

  let address = config.publicUrl ?? '';
  const platform = buildPlatform(config, log, servers, instance, () => address);
  const { parts, capabilities } = openRooms(platform);
  connect(platform, capabilities);
  await checkSecretKey(database, platform.secretKey);
  await platform.directory.giveKeys(platform.random);
  await bringUpToDate(platform, capabilities);
  for (const { prepare } of capabilities) await prepare?.();

  const http = createServer(buildApp(platform, capabilities));
  http.keepAliveTimeout = 65_000;
  // An upload may take hours; the pipeline bounds how long a body stands still.
  http.requestTimeout = 0;
  answerBrokenCalls(http);
  await new Promise<void>((resolve, reject) => http.once('error', reject).listen(config.port, config.host, resolve));
  const { port } = http.address() as AddressInfo;
  address ||= `http://${config.host === '0.0.0.0' || config.host === '::' ? 'localhost' : config.host}:${port}`;
  for (const { start } of capabilities) await start?.();
  await platform.jobs.start();
  const endUpkeep = beginUpkeep(platform, capabilities);
  const setupAddress = (await isSetupNeeded(platform)) ? `${address}/setup?token=${await makeSetupToken(platform)}` : null;
  log.info({ address }, 'the service is ready');

  return {
    address,
    setupAddress,
    parts,
    databasePid: () => server?.pid(),
    stop: async () => {
      await endUpkeep();
      await stopServing(http, platform);
      platform.streams.stop();
      await platform.jobs.stop();
      for (const { stop } of capabilities.toReversed()) await stop?.();
      for (const step of undo.reverse()) await step();
      log.info('the service has stopped');
    },
  };
}

/** Fills the platform's ports that every room may answer, and gives the queue its workers. */
function connect(platform: Platform, capabilities: readonly Capability[]): void {
  Object.assign(
    platform.ports,
    internalCallsOf(
      platform,
      capabilities.flatMap(({ routes = [] }) => routes),
    ),
  );
  platform.marks.push(...capabilities.flatMap(({ marks = [] }) => marks));
  for (const { jobs = {}, recurring = [] } of capabilities) {
    for (const [kind, how] of Object.entries(jobs)) platform.jobs.on(kind, how);
    for (const one of recurring) platform.jobs.on(one.work, recurringJob(platform, one));
  }
  platform.ports.userRemoved = async (removal) => {
    for (const { onUserRemoved } of capabilities) await onUserRemoved?.(removal);
  };
  platform.ports.dataOfUser = async (environment, userId) => {
    const whole: JsonObject = {};
    for (const { dataOfUser } of capabilities) Object.assign(whole, await dataOfUser?.(environment, userId));
    return whole;
  };
  platform.ports.environmentRemoved = async (environment) => {
    for (const { onEnvironmentRemoved } of capabilities) await onEnvironmentRemoved?.(environment);
  };
  platform.ports.environmentCreated = async (environment) => {
    for (const { onEnvironmentCreated } of capabilities) await onEnvironmentCreated?.(environment);
  };
}

/** Migrates the tables of every environment, and runs the rooms' upgrades there. */
async function bringUpToDate(platform: Platform, capabilities: readonly Capability[]): Promise<void> {
  const environments = await platform.directory.allEnvironments();
  await forEachEnvironment(platform, 'bring an environment up to date', environments, async (environment) => {
    await migrateEnvironment(environment.db);
    await takeOverJobs(platform.database, environment);
    await platform.jobs.resume(environment);
    for (const room of capabilities) await room.bringUpToDate?.(environment);
  });
}

/**
 * Starts what each instance does for itself.
 * @returns a function that stops it, after the first run
 */
function beginUpkeep(platform: Platform, capabilities: readonly Capability[]): () => Promise<void> {
  const all = capabilities.flatMap(({ onEveryInstance = [] }) => onEveryInstance);
  const first = Promise.all(all.map(({ work, run }) => guarded(platform, work, {}, run)));
  const ends = all.map(({ everyMs, work, run }) => every(platform, everyMs, work, run));
  return async () => {
    for (const end of ends) end();
    await first;
  };
}

/** Recurring work as a kind of job: one instance does it, for each environment in turn. */
function recurringJob(platform: Platform, recurring: Recurring): JobKind {
  const { work, everyMs } = recurring;
  return {
    everyMs,
    work: async (_job, { stopping }) => {
      if ('run' in recurring) await recurring.run();
      else
        await forEachEnvironment(
          platform,
          work,
          await platform.directory.allEnvironments(),
          async (one) => recurring.eachEnvironment(one),
          { atOnce: 1, stopping },
        );
      return null;
    },
  };
}

/**
 * An outside server may still be starting, and may not have the system database yet.
 * @returns how many prepared statements the server keeps at most
 */
async function createSystemDatabase(url: string): Promise<number> {
  const name = decodeURIComponent(new URL(url).pathname.slice(1)) || 'orchard';
  return askServer(url, 'ORCHARD_DATABASE_URL', async (connection) => {
    await connection.query(`CREATE DATABASE IF NOT EXISTS \`${name.replaceAll('`', '')}\` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`);
  });
}

/** Further servers, on which environments may be placed; each must answer. */
async function openServers(addresses: Config['databaseServers']): Promise<Map<string, Database>> {
  const servers = new Map<string, Database>();
  for (const [name, url] of addresses) {
    const most = await askServer(url, `${name} in ORCHARD_DATABASE_SERVERS`);
    servers.set(name, openDatabase(url, CONNECTIONS, most / INSTANCES_FIT));
  }
  return servers;
}

/** @returns how many prepared statements the server keeps at most @throws Error that names the setting, without the password */
async function askServer(url: string, setting: string, prepare?: (connection: mysql.Connection) => Promise<void>): Promise<number> {
  const bare = new URL(url.replace(/^mariadb:/, 'mysql:'));
  bare.pathname = '/';
  try {
    const connection = await mysql.createConnection({ uri: bare.toString(), connectTimeout: 10_000 });
    await prepare?.(connection);
    const [[{ most }]] = (await connection.query('SELECT @@GLOBAL.max_prepared_stmt_count AS most')) as unknown as [[{ most: number }]];
    await connection.end();
    return Number(most);
  } catch (error) {
    throw new Error(
      `The database at ${bare.host} cannot be used: ${(error as Error).message}. Check ${setting}, and that its user may create databases.`,
    );
  }
}

function tellClock(log: Logger, behindMs: number): void {
  if (Math.abs(behindMs) < 500) return log.info('the clock of this machine agrees with the database again');
  const how = `${Math.round(Math.abs(behindMs) / 1000)} s ${behindMs > 0 ? 'behind' : 'ahead'}`;
  log.warn(
    { behindMs },
    `the clock of this machine is ${how}, by the database's: the service goes by the database's. Set it by the network`,
  );
}

function buildPlatform(config: Config, log: Logger, servers: Servers, instance: string, address: () => string): Platform {
  const database = servers.main;
  const random = pooledRandom();
  const clock = new DatabaseClock(
    database,
    () => Date.now(),
    (behindMs) => tellClock(log, behindMs),
  );
  const now = () => clock.now();
  const newId = () => uuidv7(now(), random(10));
  const secretKey = readSecretKey(config.dataDirectory, config.secretKey);
  const changes = new ChangeSignal();
  const ports = emptyPorts();
  const signInHosts = new SignInHosts(config.signInHosts ?? null);
  const actors = new Actors(database, now);
  const directory = new Directory(servers, secretKey, actors);
  return {
    config,
    log,
    instance,
    servers,
    database,
    secretKey,
    cursorSecret: deriveKey(secretKey, 'cursors'),
    now,
    clock,
    random,
    newId,
    address,
    directory,
    members: new MemberDirectory(database),
    actors,
    audit: new Audit(servers, secretKey, { now, newId }),
    userTokens: new UserTokens(
      now,
      (environment, id) => ports.findSession(environment, id),
      new SigningKeys({ now, random }),
      address,
      signInHosts,
    ),
    signInHosts,
    metrics: new Metrics(),
    jobs: new JobQueue({
      system: database,
      installation: { id: INSTALLATION, db: servers.installation },
      find: (id) => directory.environmentById(id),
      owner: readHolderName(config.dataDirectory),
      now,
      newId,
      log,
      worked: (at, kind, failed, durationUs) => ports.countWork(at, { kind: 'job', name: kind, failed, durationUs }),
    }),
    changes,
    feed: new Feed(changes, log),
    streams: new StreamRights(database, ports, now, log),
    answers: new AnswerLedger(),
    ports,
    marks: [],
  };
}

/** Random bytes from a pool: asking the system for each call would cost more than the rest of its bookkeeping. */
function pooledRandom(): (bytes: number) => Buffer {
  const pool = Buffer.alloc(8192);
  let used = pool.length;
  return (bytes) => {
    if (used + bytes > pool.length) {
      randomFillSync(pool);
      used = 0;
    }
    used += bytes;
    return Buffer.from(pool.subarray(used - bytes, used));
  };
}

function buildApp(platform: Platform, capabilities: readonly Capability[]): express.Express {
  const { config, log, address } = platform;
  const app = express();
  const rates = new Rates(config.rates);
  app.set('etag', false);
  app.set('x-powered-by', false);
  app.set('trust proxy', config.trustedProxies);
  const routes = capabilities.flatMap(({ routes = [] }) => routes);
  const answersOptions = routes.some(({ operation }) => operation.method === 'OPTIONS');
  app.use(keepSignInHosts(platform));
  for (const { serveHost } of capabilities)
    if (serveHost)
      app.use((request, response, next) => void serveHost(request, response).then((served) => (served ? undefined : next()), next));
  app.use(['/app/v1', '/identity', '/files'], (request, response, next) => {
    // Fetch standard section 3.2.2: a preflight names the method it asks for; other OPTIONS may be calls of their own.
    const isPreflight = request.method === 'OPTIONS' && (!answersOptions || 'access-control-request-method' in request.headers);
    return isPreflight ? answerPreflight(request, response) : next();
  });
  app.use(['/app', '/manage'], (_request, response, next) => {
    response.setHeader('X-Content-Type-Options', 'nosniff');
    response.setHeader('Cache-Control', 'no-store');
    next();
  });
  app.use(serveRoutes(platform, routes, rates));
  app.use(serveUnknown(platform, '/app/v1', routes, rates));
  app.use(serveUnknown(platform, '/manage/v1', routes, rates));
  app.use(servePages(platform));
  // Paths without a page.
  app.use((request, response) => {
    const problem = new Problem('not-found', `${request.method} ${request.path} is not here. See ${address()}/docs.`);
    response.status(problem.status).type('application/problem+json').send(JSON.stringify(problem.toDocument()));
  });
  app.use((error: Error, _request: express.Request, response: express.Response, next: express.NextFunction) => {
    if (response.headersSent) return next(error);
    const malformed = error instanceof URIError;
    if (!malformed) log.error({ err: error }, 'a call failed before it was routed');
    const problem = malformed
      ? new Problem('invalid-input', 'The address holds a % that does not begin a percent-encoded byte. Encode it as %25.')
      : new Problem('unexpected');
    response.status(problem.status).type('application/problem+json').send(JSON.stringify(problem.toDocument()));
  });
  return app;
}

/** No new connections; streams end; running requests get some time to finish. */
async function stopServing(http: Server, platform: Platform): Promise<void> {
  const closed = new Promise((resolve) => http.close(resolve));
  platform.changes.close();
  http.closeIdleConnections();
  const impatient = setTimeout(() => http.closeAllConnections(), GRACE_MS);
  await closed;
  clearTimeout(impatient);
}
