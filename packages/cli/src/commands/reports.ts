/** Saved reports and digests. */
import { cellWords, changeOf, figureWords, operations, type ReportPaper } from '@orchard/contract';
import type { Command } from 'commander';
import { addCall, addList, addRemoval } from '../declared.js';
import type { GlobalOptions } from '../context.js';
import { moment, printItem, printList } from '../output.js';
import { print, surroundings } from '../surroundings.js';

export function addReportCommands(program: Command): void {
  program.command('report').description('what the team saved to look at again');
  const own = operations.reports;
  addList(program, own.list, [
    'name',
    ['source', ({ source, collection }) => (collection ? `${source} of ${collection}` : source)],
    'period',
    ['filter', ({ filter }) => filter ?? ''],
    ['by', ({ by }) => by.name ?? ''],
    'id',
  ]);
  addCall(program, own.save, { show: ({ id, name, source, period }) => ({ id, name, source, period }) });
  addCall(program, own.read, {
    print: ({ document }, options) => printDocument(document, options),
    options: { zone: { about: 'the time zone of days and times' } },
  });
  addCall(program, own.file, { print: (text) => surroundings().stdout.write(String(text)) });
  addRemoval(program, own.remove, { what: ({ report }) => `Removing the report ${report}` });
}

/** Figures with their change, then tables; charts are for pages and mails. */
function printDocument(document: ReportPaper, options: GlobalOptions): void {
  if (options.json) return printItem(document, options);
  const { app, environment, title, from, until, zone, blocks } = document;
  print(`${title}: ${app}/${environment}, ${moment(from)} to ${moment(until)} UTC`);
  for (const block of blocks) {
    if (block.kind === 'care') for (const { text } of block.items) print(`! ${text}`);
    if (block.kind === 'figures')
      printList(
        block.items,
        [
          ['figure', ({ label }) => label],
          ['value', ({ unit, value }) => figureWords(unit, value)],
          ['before', ({ unit, before }) => (before === undefined ? '' : figureWords(unit, before))],
          ['change', (figure) => changeOf(figure)?.text ?? ''],
        ],
        options,
      );
    if (block.kind === 'table') {
      print(`\n${block.title}`);
      type Row = (typeof block.rows)[number];
      const columns = block.columns.map(
        (column, i) => [column.name, (row: Row) => cellWords(row[i] ?? null, column, zone)] as readonly [string, (row: Row) => unknown],
      );
      printList(block.rows, columns, options);
      if (block.isCut) print('There are more rows than the report shows.');
    }
  }
}

export function addDigestCommands(program: Command): void {
  program.command('digest').description('reports that are mailed');
  const own = operations.digests;
  addList(
    program,
    own.list,
    [
      'id',
      'name',
      'every',
      'at',
      ['environments', ({ environments }) => environments.map(({ app, environment }) => `${app}/${environment}`).join(', ')],
      ['readers', ({ readers }) => readers.length],
      ['by', ({ by }) => by.name ?? ''],
    ],
    { hint: ({ missing }) => missing ?? undefined },
  );
  addCall(program, own.add);
  addCall(program, own.read);
  addCall(program, own.preview, {
    print: (reply, options) =>
      options.json ? printItem(reply, options) : print(`${reply.subject}\n\n${reply.text}\nAttached: ${reply.files.join(', ')}`),
  });
  addCall(program, own.send, { hint: ({ to }) => `Sent to ${to}.` });
  addRemoval(program, own.remove, { what: ({ digest }) => `Ending the digest ${digest} for all its readers` });
}
