/** What the service serves besides the API: the console, the client library, the documents, health. */
import { createHash, randomBytes, timingSafeEqual } from 'node:crypto';
import { existsSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { allOperations, buildOpenApi, FUNCTION_GUIDE, PROBLEMS, type ProblemName } from '@orchard/contract';
import express, { type NextFunction, type Request, type Response, Router } from 'express';
import helmet from 'helmet';
import type { Platform } from '../platform.js';
import { serveLibrary } from './library.js';

const packages = fileURLToPath(new URL('../../../..', import.meta.url));
const CONSOLE = join(packages, 'console/dist');

/** Strict headers for pages. Styles need the nonce: the component library writes some into the page at run time. */
function protect(request: Request, response: Response, next: NextFunction): void {
  const nonce = randomBytes(16).toString('base64');
  response.locals.nonce = nonce;
  helmet({
    contentSecurityPolicy: {
      useDefaults: false,
      directives: {
        defaultSrc: ["'none'"],
        scriptSrc: ["'self'"],
        styleSrc: ["'self'", `'nonce-${nonce}'`],
        imgSrc: ["'self'", 'data:', 'blob:'],
        mediaSrc: ["'self'", 'blob:'],
        fontSrc: ["'self'"],
        connectSrc: ["'self'"],
        baseUri: ["'none'"],
        formAction: ["'self'"],
        frameAncestors: ["'none'"],
      },
    },
    referrerPolicy: { policy: 'same-origin' },
    strictTransportSecurity: request.secure,
  })(request, response, next);
}

const databaseHindrance = ({ database }: Platform): Promise<string | null> =>
  database.rows('SELECT 1').then(
    () => null,
    () => 'the database does not answer',
  );

export function servePages(parts: Platform): Router {
  const router = Router();
  // Open to every page: an app asks it why its calls do not come through.
  router.get('/healthz', (_request, response) => void response.set('Access-Control-Allow-Origin', '*').type('text').send('ok\n'));
  router.get('/readyz', async (_request, response) => {
    const hindrance = parts.instances.isStopping ? 'this instance is stopping' : await databaseHindrance(parts);
    response
      .status(hindrance ? 503 : 200)
      .type('text')
      .send(`${hindrance ?? 'ready'}\n`);
  });
  router.get('/metrics', async (request, response) => {
    const refused = metricsRefusal(parts, request);
    if (refused) return void response.status(refused.status).type('text').send(`${refused.text}\n`);
    await noteStatements(parts);
    response.type(parts.metrics.registry.contentType).send(await parts.metrics.registry.metrics());
  });
  router.get('/openapi.json', (_request, response) => void response.json(buildOpenApi(allOperations, parts.address())));
  router.use('/client', serveLibrary());
  router.use(protect);
  router.get('/docs', (_request, response) => void response.type('html').send(page('The API', operationList())));
  router.get('/docs/problems/:name', (request, response) => {
    const name = request.params.name as ProblemName;
    if (!Object.hasOwn(PROBLEMS, name))
      return void response.status(404).type('html').send(page('No such problem', '<p>See <a href="/docs">the list</a>.</p>'));
    const { status, title, cure } = PROBLEMS[name];
    response
      .type('html')
      .send(
        page(title, `<p><code>${name}</code>, status ${status}</p><p>${asText(cure)}</p><p><a href="/docs">All calls and problems</a></p>`),
      );
  });
  router.get('/docs/functions', (_request, response) => void response.type('html').send(page('Functions', functionGuide())));
  router.get('/docs.css', (_request, response) => void response.type('css').send(DOCS_CSS));
  router.use('/assets', express.static(join(CONSOLE, 'assets'), { immutable: true, maxAge: '1y', index: false }));
  router.use(
    '/assets',
    (_request, response) => void response.status(404).type('text').send('No such file in this build. Reload the page.\n'),
  );
  router.use(express.static(CONSOLE, { index: false }));
  router.get('/{*path}', serveConsole);
  return router;
}

/** Metrics name apps and environments: they need the token, or without one, a caller on this machine. */
function metricsRefusal({ config }: Platform, request: Request): { status: 401 | 403; text: string } | null {
  if (config.metricsToken === undefined)
    return isLoopback(request.socket.remoteAddress) && isLoopback(request.ip)
      ? null
      : { status: 403, text: 'Metrics are served on loopback only. Set ORCHARD_METRICS_TOKEN to read them from elsewhere.' };
  const given = createHash('sha256')
    .update(/^Bearer\s+(\S+)$/i.exec(request.headers.authorization ?? '')?.[1] ?? '')
    .digest();
  const wanted = createHash('sha256').update(config.metricsToken).digest();
  return timingSafeEqual(given, wanted)
    ? null
    : { status: 401, text: 'Metrics need `Authorization: Bearer <the token in ORCHARD_METRICS_TOKEN>`.' };
}

/** How many statements the database server keeps prepared; while the database is unavailable the last count stays. */
async function noteStatements({ database, metrics }: Platform): Promise<void> {
  const [row] = await database
    .runRows<{ prepared: number; most: number }>(
      "SELECT VARIABLE_VALUE AS prepared, @@GLOBAL.max_prepared_stmt_count AS most FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'PREPARED_STMT_COUNT'",
    )
    .catch(() => []);
  if (row) metrics.setStatements(Number(row.prepared), Number(row.most));
}

function serveConsole(_request: Request, response: Response): void {
  if (!existsSync(join(CONSOLE, 'index.html')))
    return void response.status(503).type('text').send('The console is not built. Run `npm run build`.\n');
  // Read each time: a new build names other assets, and pages are opened rarely.
  const consolePage = readFileSync(join(CONSOLE, 'index.html'), 'utf8');
  response.type('html').set('Cache-Control', 'no-store').send(consolePage.replace('__NONCE__', response.locals.nonce));
}

const isLoopback = (ip: string | undefined) => ip === '127.0.0.1' || ip === '::1' || ip === '::ffff:127.0.0.1';
const asText = (text: string) =>
  text
    .replace(/&/g, '&amp;')
    .replace(/</g, '&lt;')
    .replace(/`([^`]+)`/g, '<code>$1</code>');

const functionGuide = (): string =>
  FUNCTION_GUIDE.map(
    ({ title, text, code }) =>
      `<h2>${asText(title)}</h2><p>${asText(text)}</p>${code ? `<pre><code>${code.replace(/&/g, '&amp;').replace(/</g, '&lt;')}</code></pre>` : ''}`,
  ).join('');

function operationList(): string {
  const rows = allOperations.map(
    (operation) =>
      `<tr><td><code>${operation.method}</code></td><td><code>${operation.path}</code></td><td>${asText(operation.summary)}</td></tr>`,
  );
  const problems = Object.entries(PROBLEMS).map(
    ([name, { status, title }]) =>
      `<tr><td>${status}</td><td><a href="/docs/problems/${name}">${name}</a></td><td>${asText(title)}</td></tr>`,
  );
  return `<p>The same as a document for tools: <a href="/openapi.json">openapi.json</a> (OpenAPI 3.1).</p>
    <table><thead><tr><th>Method</th><th>Path</th><th>What it does</th></tr></thead><tbody>${rows.join('')}</tbody></table>
    <h2>Problems</h2><table><thead><tr><th>Status</th><th>Problem</th><th>Meaning</th></tr></thead><tbody>${problems.join('')}</tbody></table>`;
}

const page = (title: string, content: string) =>
  `<!doctype html><html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>${asText(title)} · Vivid Orchard</title><link rel="stylesheet" href="/docs.css?${DOCS_MARK}"></head><body><main><h1>${asText(title)}</h1>${content}</main></body></html>`;
const DOCS_CSS = `body{background:#fbf8f2;color:#1d2a2b;font:16px/1.5 system-ui,sans-serif;margin:0}main{max-width:64rem;margin:2rem auto;padding:0 1rem}h1,h2{font-family:Georgia,serif}
table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:.3rem .6rem;border-bottom:1px solid #ddd5c5;vertical-align:top}a{color:#1a665b}code{font:14px ui-monospace,monospace}`;
const DOCS_MARK = createHash('sha256').update(DOCS_CSS).digest('hex').slice(0, 8);
