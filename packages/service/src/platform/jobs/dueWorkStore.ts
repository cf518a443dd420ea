/** Which environments have work due. An entry can be too early, which costs one query; a sweep adds missing ones. */
import type { Statements } from '../database/connection.js';

export type Due = { environmentId: string; mark: number };

/** The entry of an environment without work stays, so that its mark only increases. */
const NEVER = new Date('9999-12-31T00:00:00Z');

const ALREADY_NOTED = 'ON DUPLICATE KEY UPDATE dueAt = LEAST(dueAt, VALUES(dueAt)), mark = mark + 1';

export class DueWorkStore {
  constructor(private readonly system: Statements) {}

  async note(environmentId: string, at: Date): Promise<void> {
    await this.system.change(`INSERT INTO dueWork (environmentId, dueAt, mark) VALUES (?, ?, 1) ${ALREADY_NOTED}`, [environmentId, at]);
  }

  async noteAll(due: readonly (readonly [environmentId: string, at: Date])[]): Promise<void> {
    if (due.length === 0) return;
    const rows = due.map(([environmentId, at]) => [environmentId, at, 1]);
    await this.system.run(`INSERT INTO dueWork (environmentId, dueAt, mark) VALUES ? ${ALREADY_NOTED}`, [rows]);
  }

  async due(now: Date, most: number): Promise<Due[]> {
    return this.system.rows<Due>(`SELECT environmentId, mark FROM dueWork WHERE dueAt <= ? ORDER BY dueAt LIMIT ${most}`, [now]);
  }

  /** Moves the entry to the next due time, unless it has changed since. */
  async settle({ environmentId, mark }: Due, next: Date | null): Promise<void> {
    await this.system.change('UPDATE dueWork SET dueAt = ? WHERE environmentId = ? AND mark = ?', [next ?? NEVER, environmentId, mark]);
  }

  async forget(environmentId: string): Promise<void> {
    await this.system.change('DELETE FROM dueWork WHERE environmentId = ?', [environmentId]);
  }
}
