import { operations, Problem, type Report } from '@orchard/contract';
import { tablesOf } from '@orchard/core';
import { orNone } from '../../platform/audit/audit.js';
import { authorOf, bind, type Call, environmentOf, type Naming, type Route, type SignedInMember } from '../../platform/call.js';
import { demandRange } from '../telemetry/range.js';
import { type Digests, inCsv } from './digests.js';
import { makeReport, PERIOD_MS, presentDocument } from './making.js';
import type { Parts } from './parts.js';
import { demandQuestion } from './questionBlocks.js';
import { demandReport, listReports, removeReport, saveReport } from './store.js';

export const reportingRoutes = (parts: Parts, digests: Digests): Route[] => [...reportRoutes(parts), ...digestRoutes(digests)];

function reportRoutes(parts: Parts): Route[] {
  const own = operations.reports;
  return [
    bind(own.list, async (call) => ({ body: { items: await listReports(environmentOf(call)) } })),
    bind(
      own.save,
      async (call) => {
        const { name, ...settings } = call.body;
        demandSource(settings);
        demandQuestion(settings);
        // What cannot be read now is refused now.
        await makeReport(parts, readerOf(call), environmentOf(call), call.body, periodOf(parts, { zone: 'UTC' }, settings.period));
        const row = { id: parts.newId(), name, settings, by: authorOf(call), at: new Date(parts.now()) };
        return { body: await saveReport(environmentOf(call), row) };
      },
      { as: 'apart' },
    ),
    bind(own.read, async (call) => {
      const { report, document } = await readReport(parts, call);
      return { body: { report, document: presentDocument(document) } };
    }),
    bind(own.file, async (call) => {
      const { report, document } = await readReport(parts, call);
      const name = report.name.toLowerCase().replace(/[^a-z0-9]+/g, '-');
      call.response.status(200).setHeader('content-type', 'text/csv; charset=utf-8; header=present');
      call.response.setHeader('content-disposition', `attachment; filename="${name}.csv"`);
      call.response.end(
        tablesOf(document.blocks)
          .map(({ rows }) => inCsv(rows))
          .join('\r\n'),
      );
      return 'streaming';
    }),
    bind(
      own.remove,
      async (call) => {
        await removeReport(environmentOf(call), (await demandReport(environmentOf(call), call.params.report)).id);
        return { body: undefined };
      },
      { read: (call: Naming<{ report: string }>) => orNone(demandReport(environmentOf(call), call.params.report)) },
    ),
  ];
}

type ReadCall = Pick<Call, 'environment' | 'member' | 'role'> & {
  params: { report: string };
  query: { from?: string | undefined; until?: string | undefined; zone: string };
};

async function readReport(parts: Parts, call: ReadCall) {
  const environment = environmentOf(call);
  const report = await demandReport(environment, call.params.report);
  const document = await makeReport(parts, readerOf(call), environment, report, periodOf(parts, call.query, report.period));
  return { report, document };
}

const readerOf = ({ member, role }: Pick<Call, 'member' | 'role'>) => ({
  member: member as SignedInMember,
  role: role ?? ('viewer' as const),
});

/** @throws {Problem} invalid-input */
function periodOf(parts: Parts, query: ReadCall['query'], period: Report['period']) {
  const until = query.until ?? new Date(parts.now()).toISOString();
  const from = query.from ?? new Date(Date.parse(until) - PERIOD_MS[period]).toISOString();
  return { ...demandRange({ from, until }, parts.now()), zone: query.zone };
}

/** What belongs to one source says nothing in another. */
function demandSource({ source, collection }: Pick<Report, 'source' | 'collection'>): void {
  if ((source === 'records') === (collection !== undefined)) return;
  throw new Problem(
    'invalid-input',
    source === 'records'
      ? '`collection` is missing: a report of records names it.'
      : `\`collection\` is of reports of records, not of ${source}.`,
    {
      fields: [
        {
          path: 'body.collection',
          problem: source === 'records' ? 'It is missing.' : 'It does not belong here.',
          expected: 'a collection, with the source `records` alone',
        },
      ],
    },
  );
}

function digestRoutes(digests: Digests): Route[] {
  const own = operations.digests;
  const memberOf = (call: Pick<Call, 'member'>) => call.member as SignedInMember;
  return [
    bind(own.list, async (call) => ({ body: { items: await digests.listFor(memberOf(call)), missing: await digests.missing() } })),
    bind(own.add, async (call) => ({ body: await digests.add(memberOf(call), call.body) }), { as: 'apart', after: withoutAddresses }),
    bind(own.read, async (call) => ({ body: await digests.readFor(memberOf(call), call.params.digest) })),
    bind(
      own.remove,
      async (call) => {
        await digests.remove(memberOf(call), call.params.digest);
        return { body: undefined };
      },
      {
        read: async (call: Naming<{ digest: string }>) => {
          const found = await orNone(digests.readFor(memberOf(call), call.params.digest));
          return found && withoutAddresses(found);
        },
      },
    ),
    bind(own.preview, async (call) => ({ body: await digests.preview(memberOf(call), call.params.digest) })),
    bind(own.send, async (call) => ({ body: await digests.sendNow(memberOf(call), call.params.digest) })),
    bind(own.confirm, async (call) => ({ body: await digests.confirm(call.body.token) })),
    bind(own.end, async (call) => ({ body: await digests.end(call.body.token) })),
  ];
}

/** Addresses of people stay out of the audit. */
const withoutAddresses = <D extends { readers: { address: string | null }[] }>(digest: D) => ({
  ...digest,
  readers: digest.readers.map(({ address: _, ...reader }) => reader),
});
