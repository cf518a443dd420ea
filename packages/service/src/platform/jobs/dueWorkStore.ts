/** Which environments have work due. A note can be too early, which costs one look, and a sweep mends one that is missing. */
import type { Statements } from '../database/connection.js';

export type Due = { environmentId: string; mark: number };

/** The note of an environment without work stays, so that its mark only ever rises. */
const NEVER = new Date('9999-12-31T00:00:00Z');

export class DueWorkStore {
  constructor(private readonly system: Statements) {}

  async note(environmentId: string, at: Date): Promise<void> {
    await this.system.change(
      'INSERT INTO dueWork (environmentId, dueAt, mark) VALUES (?, ?, 1) ON DUPLICATE KEY UPDATE dueAt = LEAST(dueAt, VALUES(dueAt)), mark = mark + 1',
      [environmentId, at],
    );
  }

  async due(now: Date, most: number): Promise<Due[]> {
    return this.system.rows<Due>(`SELECT environmentId, mark FROM dueWork WHERE dueAt <= ? ORDER BY dueAt LIMIT ${most}`, [now]);
  }

  /** Moves the note to when something is due next, unless somebody has noted something since. */
  async settle({ environmentId, mark }: Due, next: Date | null): Promise<void> {
    await this.system.change('UPDATE dueWork SET dueAt = ? WHERE environmentId = ? AND mark = ?', [next ?? NEVER, environmentId, mark]);
  }

  async forget(environmentId: string): Promise<void> {
    await this.system.change('DELETE FROM dueWork WHERE environmentId = ?', [environmentId]);
  }
}
