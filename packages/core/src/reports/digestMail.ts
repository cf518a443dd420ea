/** A digest as a mail: HTML that needs no style sheet, and plain text that says the same. */
import {
  type Block,
  type Cell,
  careOf,
  cellWords,
  changeOf,
  figureWords,
  type ReportDocument,
  type TableColumn,
  tablesOf,
} from './document.js';
import { type DigestRhythm, periodWords } from './digestTimes.js';

export type Digest = {
  name: string;
  every: DigestRhythm;
  from: number;
  until: number;
  zone: string;
  /** The address of the installation. */
  base: string;
  reports: ReportDocument[];
  /** Environments the reader has no role in any more. */
  leftOut: number;
  /** The page on which the reader ends the digest. */
  endLink: string;
};
export type DigestMail = {
  subject: string;
  html: string;
  text: string;
  /** Charts in the order of `cid:chart-0`, `cid:chart-1`, … */
  charts: { block: Extract<Block, { kind: 'chart' }>; zone: string }[];
  tables: { name: string; rows: Cell[][] }[];
};

const INK = '#1d2a2b';
const DIMMED = '#55605f';
const CARE = '#a83a16';
const GOOD = '#13604f';
const RULE = '#ddd5c5';
const MOST_ROWS = 12;

const escaped = (text: string): string => text.replace(/[&<>"']/g, (c) => `&#${c.charCodeAt(0)};`);
const environmentWords = (reports: readonly ReportDocument[]): string[] => [
  ...new Set(reports.map(({ app, environment }) => `${app}/${environment}`)),
];
const fileName = (words: string): string =>
  words
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '');

/** @param pictureOf the address of a chart's picture; in a mail, of the part that holds it (RFC 2392) */
export function digestMail(digest: Digest, pictureOf: (number: number) => string = (number) => `cid:chart-${number}`): DigestMail {
  const places = environmentWords(digest.reports);
  const when = periodWords(digest.from, digest.until, digest.zone);
  const charts: DigestMail['charts'] = [];
  const draw = (block: Extract<Block, { kind: 'chart' }>, zone: string): string => pictureOf(charts.push({ block, zone }) - 1);
  const care = careOf(digest.reports.flatMap(({ blocks }) => blocks));
  const html = [
    `<!doctype html><html lang="en"><head><meta charset="utf-8"><title>${escaped(digest.name)}</title></head>`,
    `<body style="margin:0;background:#fbf8f2;color:${INK};font-family:Figtree,system-ui,sans-serif;font-size:15px;line-height:1.45">`,
    `<div style="max-width:680px;margin:0 auto;padding:24px">`,
    `<h1 style="font-family:Georgia,serif;font-size:24px;margin:0">${escaped(digest.name)}</h1>`,
    `<p style="color:${DIMMED};margin:4px 0 20px">${escaped(when)} · ${escaped(places.join(', '))} · times in ${escaped(digest.zone)}</p>`,
    careHtml(care, digest.base),
    ...digest.reports.map((report) => reportHtml(report, digest.base, draw)),
    `<p style="color:${DIMMED};font-size:13px;border-top:1px solid ${RULE};padding-top:12px">${escaped(footWords(digest))} <a href="${escaped(digest.endLink)}" style="color:${GOOD}">Stop this digest</a></p>`,
    '</div></body></html>',
  ].join('\n');
  return {
    subject: `${digest.name}, ${when}${care.length > 0 ? `: ${care.length} ${care.length === 1 ? 'thing needs' : 'things need'} care` : ''}`,
    html,
    text: digestText(digest, when, places, care),
    charts,
    tables: digest.reports.flatMap(({ app, environment, title, blocks }) =>
      tablesOf(blocks).map((table) => ({ name: `${fileName(`${app} ${environment} ${title} ${table.title}`)}.csv`, rows: table.rows })),
    ),
  };
}

const leftOutWords = (leftOut: number): string =>
  leftOut === 0 ? '' : `${leftOut} ${leftOut === 1 ? 'environment is' : 'environments are'} left out: you have no role there any more. `;
const footWords = ({ leftOut, every }: Digest): string => `${leftOutWords(leftOut)}You get this once a ${every}.`;

function careHtml(items: readonly { text: string; link: string }[], base: string): string {
  if (items.length === 0) return `<p style="border-left:4px solid ${GOOD};padding:6px 12px;margin:0 0 20px">Nothing needs care.</p>`;
  const lines = items.map(({ text, link }) => `<li><a href="${escaped(base + link)}" style="color:${CARE}">${escaped(text)}</a></li>`);
  return `<div style="border-left:4px solid ${CARE};padding:2px 12px;margin:0 0 20px"><strong>What needs care</strong><ul style="margin:4px 0;padding-left:18px">${lines.join('')}</ul></div>`;
}

function reportHtml(
  report: ReportDocument,
  base: string,
  draw: (block: Extract<Block, { kind: 'chart' }>, zone: string) => string,
): string {
  const { app, environment, title, blocks, zone } = report;
  const place = `${app}/${environment}`;
  return [
    `<h2 style="font-family:Georgia,serif;font-size:18px;margin:26px 0 8px"><a href="${escaped(`${base}/${place}/overview`)}" style="color:${INK};text-decoration:none">${escaped(place)}</a> <span style="color:${DIMMED};font-weight:400">${escaped(title)}</span></h2>`,
    ...blocks.map((block) => blockHtml(block, zone, draw)),
  ].join('\n');
}

function blockHtml(block: Block, zone: string, draw: (block: Extract<Block, { kind: 'chart' }>, zone: string) => string): string {
  switch (block.kind) {
    case 'figures':
      return figuresHtml(block);
    case 'chart':
      return `<p style="margin:0 0 12px"><img src="${draw(block, zone)}" width="640" style="max-width:100%;height:auto" alt="${escaped(chartWords(block))}"></p>`;
    case 'table':
      return tableHtml(block, zone);
    case 'care':
      return '';
  }
}

function figuresHtml({ title, items }: Extract<Block, { kind: 'figures' }>): string {
  const rows = items.map((figure) => {
    const change = changeOf(figure);
    const colour = change?.isWorse ? CARE : change?.isBetter ? GOOD : DIMMED;
    return `<tr><td style="padding:3px 12px 3px 0">${escaped(figure.label)}</td><td style="text-align:right;padding:3px 12px"><strong>${figureWords(figure.unit, figure.value)}</strong></td><td style="color:${colour};padding:3px 0">${escaped(change?.text ?? '')}</td></tr>`;
  });
  return `<p style="margin:8px 0 2px"><strong>${escaped(title)}</strong></p><table style="border-collapse:collapse;margin:0 0 14px">${rows.join('')}</table>`;
}

function tableHtml({ title, columns, rows, isCut }: Extract<Block, { kind: 'table' }>, zone: string): string {
  if (rows.length === 0)
    return `<p style="margin:0 0 14px"><strong>${escaped(title)}</strong><br><span style="color:${DIMMED}">None in this period.</span></p>`;
  const style = ({ type }: TableColumn) =>
    `text-align:${type === 'number' ? 'right' : 'left'};padding:3px 8px;border-bottom:1px solid ${RULE}`;
  const head = columns
    .map((column) => `<th style="${style(column)};color:${DIMMED};font-weight:600">${escaped(column.label)}</th>`)
    .join('');
  const body = rows
    .slice(0, MOST_ROWS)
    .map(
      (row) =>
        `<tr>${columns.map((column, i) => `<td style="${style(column)}">${escaped(cellWords(row[i] ?? null, column, zone))}</td>`).join('')}</tr>`,
    );
  const left = rows.length - body.length;
  const rest = left > 0 || isCut ? `<p style="color:${DIMMED};font-size:13px;margin:4px 0 14px">${restWords(left, isCut)}</p>` : '';
  return `<p style="margin:8px 0 2px"><strong>${escaped(title)}</strong></p><table style="border-collapse:collapse;width:100%;font-size:13px;margin:0 0 8px"><tr>${head}</tr>${body.join('')}</table>${rest}`;
}

const restWords = (left: number, isCut: boolean): string =>
  isCut
    ? 'There are more rows than the report shows.'
    : `${left.toLocaleString('en-GB')} more ${left === 1 ? 'row' : 'rows'} in the attached file.`;

const chartWords = ({ title, series }: Extract<Block, { kind: 'chart' }>): string =>
  `${title}: ${series.map(({ label }) => label).join(', ')}`;

function digestText(digest: Digest, when: string, places: string[], care: { text: string; link: string }[]): string {
  const lines = [digest.name, `${when} · ${places.join(', ')} · times in ${digest.zone}`, ''];
  if (care.length === 0) lines.push('Nothing needs care.', '');
  else lines.push('What needs care', ...care.map(({ text, link }) => `- ${text}\n  ${digest.base}${link}`), '');
  for (const { app, environment, title, blocks } of digest.reports) {
    lines.push(`${app}/${environment}: ${title}`, '');
    for (const block of blocks) lines.push(...blockText(block, digest.zone));
  }
  lines.push('', footWords(digest), `Stop this digest: ${digest.endLink}`, '');
  return lines.join('\n');
}

function blockText(block: Block, zone: string): string[] {
  if (block.kind === 'figures')
    return [
      ...block.items.map((figure) => `${figure.label}: ${figureWords(figure.unit, figure.value)}${suffix(changeOf(figure)?.text)}`),
      '',
    ];
  if (block.kind !== 'table') return [];
  const { columns } = block;
  const rows = block.rows
    .slice(0, MOST_ROWS)
    .map((row) => `- ${columns.map((column, i) => cellWords(row[i] ?? null, column, zone)).join(' · ')}`);
  return [block.title, ...(rows.length > 0 ? rows : ['None in this period.']), ''];
}
const suffix = (text: string | undefined): string => (text ? ` (${text})` : '');
