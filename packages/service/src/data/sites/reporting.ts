/** What browsers report of a site's pages: by the Reporting API (W3C), and by `report-uri` of CSP Level 2. */
import { createHash } from 'node:crypto';
import { promisify } from 'node:util';
import type { BrowserReport } from '@orchard/contract';
import { isPlainObject, type JsonObject } from '@orchard/core';
import express, { type Request, type Response } from 'express';
import type { Found } from './hosts.js';
import type { Parts } from './parts.js';
import { addReport, type ReportRow } from './store.js';

/** Below the path that no file of a site has. */
export const REPORTS_PATH = '/-/reports';
const MOST_AT_ONCE = 20;
const TYPES = ['application/reports+json', 'application/csp-report', 'application/json'];
const readJson = promisify(express.json({ limit: '50kb', type: TYPES })) as (request: Request, response: Response) => Promise<void>;

type Report = Pick<ReportRow, 'kind' | 'directive' | 'blocked' | 'page'>;

export async function takeReports(parts: Parts, request: Request, response: Response, { environment, site }: Found): Promise<void> {
  try {
    await readJson(request, response);
  } catch {
    response.status(400).end();
    return;
  }
  const now = new Date(parts.now());
  for (const report of reportsIn(request.body).slice(0, MOST_AT_ONCE)) {
    const id = createHash('sha256')
      .update(JSON.stringify([site.name, report]))
      .digest('hex');
    await addReport(environment, { id, site: site.name, ...report, count: 1, lastAt: now });
  }
  response.status(204).end();
}

const text = (value: unknown, most: number): string => (typeof value === 'string' ? value : '').slice(0, most);
/** Without what may be a secret. */
const address = (value: unknown): string => text(value, 300).replace(/[?#].*$/s, '');

function reportsIn(body: unknown): Report[] {
  if (Array.isArray(body)) return body.filter(isPlainObject).flatMap((one) => ofReportingApi(one as JsonObject));
  const old = isPlainObject(body) ? (body as JsonObject)['csp-report'] : null;
  if (!isPlainObject(old)) return [];
  const {
    'effective-directive': directive,
    'violated-directive': violated,
    'blocked-uri': blocked,
    'document-uri': page,
  } = old as JsonObject;
  return [{ kind: 'csp-violation', directive: text(directive ?? violated, 100), blocked: address(blocked), page: address(page) }];
}

function ofReportingApi({ type, url, body }: JsonObject): Report[] {
  const { effectiveDirective, blockedURL, id, message } = isPlainObject(body) ? (body as JsonObject) : {};
  return [
    {
      kind: text(type, 40),
      directive: text(effectiveDirective ?? id, 100),
      blocked: address(blockedURL) || text(message, 300),
      page: address(url),
    },
  ];
}

/** What to do about a report. */
export function adviceOn({ kind, directive, blocked }: Report): string {
  if (kind !== 'csp-violation') return 'See what the browser says of it, and mend the page.';
  const [name = ''] = directive.split(' ');
  if (blocked === 'inline')
    return `The page has code or styles in itself, which ${name} refuses. Move them to a file, or add their hash to ${name}.`;
  if (blocked === 'eval')
    return `Code was made of text, which ${name} refuses. Another library may do without; 'unsafe-eval' would allow it.`;
  const origin = /^https?:\/\/[^/]+/.exec(blocked)?.[0];
  return origin
    ? `If ${origin} is yours, add it to ${name} of Content-Security-Policy among the site's headers. If you do not know it, an extension or somebody else's code asked for it.`
    : `${name} refuses ${blocked || 'it'}. Add it to ${name} of Content-Security-Policy if the page needs it.`;
}

export const presentReport = (row: ReportRow): BrowserReport => ({
  kind: row.kind,
  directive: row.directive,
  blocked: row.blocked,
  page: row.page,
  count: row.count,
  lastAt: row.lastAt.toISOString(),
  advice: adviceOn(row),
});
