/** What became of the rows of a file, while they are read and at the end. */
import { type ImportReport, Problem } from '@orchard/contract';
import type { Row } from './rows.js';

type Reject = ImportReport['rejects'][number];
/** Called after each chunk, and for each rejected row. */
export type ImportProgress = { chunk?: (stored: number, rejected: number) => void; reject?: (reject: Reject) => void };

const SHOWN_REJECTS = 100;

export class Report {
  rows = 0;
  stored = 0;
  rejected = 0;
  isByKey = false;
  readonly byKey = { created: 0, changed: 0, same: 0 };
  readonly #shown: Reject[] = [];
  #delimiter: string | null = null;

  constructor(private readonly progress: ImportProgress) {}

  /** A comma is expected. */
  noteDelimiter(delimiter: string): void {
    if (delimiter !== ',') this.#delimiter = delimiter;
  }

  reject(row: Row, reason: string): void {
    this.rejected++;
    const reject = { line: row.line, reason, row: row.text().slice(0, 10_000) };
    if (this.#shown.length < SHOWN_REJECTS) this.#shown.push(reject);
    this.progress.reject?.(reject);
  }

  /** @throws errors that are not the row's fault */
  refuse(row: Row, error: unknown): void {
    if (!(error instanceof Problem) || error.status >= 500) throw error;
    const { fields } = error.extras;
    this.reject(
      row,
      fields
        ? fields.map(({ problem, expected }) => (problem.includes(expected) ? problem : `${problem} Must be ${expected}.`)).join(' ')
        : error.detail,
    );
  }

  chunk(): void {
    this.progress.chunk?.(this.stored, this.rejected);
  }

  whole(): ImportReport {
    const rejects = this.#shown.sort((a, b) => a.line - b.line);
    return {
      stored: this.stored,
      rejected: this.rejected,
      rejects,
      ...(this.#delimiter ? { delimiter: this.#delimiter } : {}),
      ...(this.isByKey ? { byKey: { ...this.byKey } } : {}),
    };
  }
}

/** For an import that stores nothing where a row does not fit. */
export function stopped(report: Report): Problem {
  const { rejected, rejects } = report.whole();
  const first = rejects[0] as Reject;
  return new Problem(
    'import-refused',
    `Line ${first.line}: ${first.reason} ${rejected > 1 ? `${rejected} rows in all do not fit. ` : ''}Nothing was stored.`,
    {
      fields: rejects.slice(0, 20).map(({ line, reason }) => ({ path: `line ${line}`, problem: reason, expected: 'a row that fits' })),
    },
  );
}
