/** Puts a service together, starts it and stops it. It names no room; capabilities.ts lists them. */
import { randomBytes, randomFillSync } from 'node:crypto';
import { createRequire } from 'node:module';
import { setTimeout as sleep } from 'node:timers/promises';
import { createServer, type Server } from 'node:http';
import type { AddressInfo } from 'node:net';
import { Problem } from '@orchard/contract';
import { base32, type JsonObject, uuidv7 } from '@orchard/core';
import express from 'express';
import type { Logger } from 'pino';
import { openRooms, type Parts } from './capabilities.js';
import { Actors } from './platform/actors.js';
import { Audit } from './platform/audit/audit.js';
import { Directory, MovedAway } from './platform/access/directory.js';
import { MemberDirectory } from './platform/access/memberDirectory.js';
import { checkSecretKey } from './platform/access/secretKeyMark.js';
import { deriveKey } from './platform/access/secrets.js';
import { Rates } from './platform/instances/rates.js';
import { SigningKeys } from './platform/access/signingKeys.js';
import { SignInHosts } from './platform/access/signInHosts.js';
import { UserTokens } from './platform/access/userTokens.js';
import type { Capability, Recurring } from './platform/capability.js';
import type { Config } from './platform/config.js';
import { holdDataDirectory, readHolderName, readSecretKey } from './platform/dataDirectory.js';
import { DatabaseClock } from './platform/database/clock.js';
import { steadyNow } from './platform/database/time.js';
import { openServers, openSystemServer } from './platform/database/opening.js';
import { migrateEnvironment, migrateSystem } from './platform/database/migrate.js';
import { INSTALLATION, Servers } from './platform/database/servers.js';
import { startDatabaseServer } from './platform/database/server.js';
import { AnswerLedger } from './platform/http/answerBytes.js';
import { answerBrokenCalls } from './platform/http/brokenCalls.js';
import { answerPreflight } from './platform/http/crossOrigin.js';
import { Instances } from './platform/instances/instances.js';
import { passOn, viaName } from './platform/http/passOn.js';
import { keepSignInHosts } from './platform/http/signInHosts.js';
import { servePages } from './platform/http/pages.js';
import { serveRoutes, serveUnknown } from './platform/http/pipeline.js';
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
import { forgetSettings } from './platform/settings/settingStore.js';
import { bringBack, bringUpToDate } from './platform/upgrades.js';
import { every, forEachEnvironment, guarded } from './platform/upkeep.js';
import { isSetupNeeded, makeSetupToken } from './setup/members/setup.js';

const GRACE_MS = 10_000;
const { version: VERSION } = createRequire(import.meta.url)('../package.json') as { version: string };

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
  const database = await openSystemServer(url, log);
  const instance = base32(randomBytes(8));
  const servers = new Servers(database, new Leases(database, instance), await openServers(config.databaseServers, log));
  undo.push(() => servers.close());
  await migrateSystem(servers);
  await migrateEnvironment(servers.installation);

  let address = config.publicUrl ?? '';
  const platform = buildPlatform(config, log, servers, instance, () => address);
  const { parts, capabilities } = openRooms(platform);
  connect(platform, capabilities);
  for (const one of servers.all) one.whenMoved = (environmentId) => platform.directory.whenMoved(environmentId);
  await checkSecretKey(database, platform.secretKey);
  await platform.directory.giveKeys(platform.random);
  await bringUpToDate(platform, capabilities);
  for (const { prepare } of capabilities) await prepare?.();

  const rates = new Rates(config.rates);
  const http = createServer(buildApp(platform, capabilities, rates));
  http.keepAliveTimeout = 65_000;
  // An upload may take hours; the pipeline bounds how long a body stands still.
  http.requestTimeout = 0;
  answerBrokenCalls(http);
  await new Promise<void>((resolve, reject) => http.once('error', reject).listen(config.port, config.host, resolve));
  const { port } = http.address() as AddressInfo;
  address ||= `http://${config.host === '0.0.0.0' || config.host === '::' ? 'localhost' : config.host}:${port}`;
  for (const { start } of capabilities) await start?.();
  await platform.jobs.start();
  await platform.instances.start(port);
  rates.start(platform);
  const endUpkeep = beginUpkeep(platform, capabilities);
  const setupAddress = (await isSetupNeeded(platform)) ? `${address}/setup?token=${await makeSetupToken(platform)}` : null;
  log.info({ address }, 'the service is ready');

  return {
    address,
    setupAddress,
    parts,
    databasePid: () => server?.pid(),
    stop: async () => {
      await platform.instances.leave();
      // Until a balancer has seen it, calls are answered as before.
      await sleep(config.drainMs);
      rates.stop();
      await endUpkeep();
      await stopServing(http, platform);
      platform.streams.stop();
      await platform.jobs.stop();
      for (const { stop } of capabilities.toReversed()) await stop?.();
      await platform.instances.stop();
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
  platform.ports.environmentReturned = (environment) => bringBack(platform, capabilities, environment);
  platform.ports.forgetRemembered = (environment) => {
    forgetSettings(environment);
    for (const { forget } of capabilities) forget?.(environment);
  };
  platform.ports.environmentCreated = async (environment) => {
    for (const { onEnvironmentCreated } of capabilities) await onEnvironmentCreated?.(environment);
  };
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
  const clock = new DatabaseClock(database, steadyNow, (behindMs) => tellClock(log, behindMs));
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
    instances: new Instances({ database, instance, version: VERSION, now, clock, log }),
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

function buildApp(platform: Platform, capabilities: readonly Capability[], rates: Rates): express.Express {
  const { config, log, address } = platform;
  const app = express();
  app.set('etag', false);
  app.set('x-powered-by', false);
  app.set('trust proxy', config.trustedProxies);
  app.use((_request, response, next) => {
    // A balancer keeps connections: of an instance that stops it opens no new ones, and each ends with its last answer.
    if (platform.instances.isStopping) response.setHeader('Connection', 'close');
    next();
  });
  const routes = capabilities.flatMap(({ routes = [] }) => routes);
  const answersOptions = routes.some(({ operation }) => operation.method === 'OPTIONS');
  app.use(keepSignInHosts(platform));
  for (const { serveHost } of capabilities)
    if (serveHost)
      app.use((request, response, next) => void serveHost(request, response).then((served) => (served ? undefined : next()), next));
  app.use(['/app/v1', '/identity', '/files', '/broadcasts'], (request, response, next) => {
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
  app.use((error: Error, request: express.Request, response: express.Response, next: express.NextFunction) => {
    if (response.headersSent) return next(error);
    // A site of an environment that has moved: its host says which one it is.
    if (error instanceof MovedAway)
      return void passOn(request, response, error.to, viaName(platform.secretKey), true).catch((problem: Problem) =>
        response.status(problem.status ?? 500).end(problem.detail),
      );
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
