/** Notices to the team; each is given only once. */
import type { Notice } from '@orchard/contract';
import type { Database } from '../../platform/database/connection.js';
import type { SignedInMember } from '../../platform/call.js';

export type NewNotice = {
  /** Null: about the installation. */
  environmentId: string | null;
  /** The same notice is given only once. */
  once: string;
  title: string;
  body: string;
  /** A path of the console. */
  link: string | null;
};
type NoticeRow = {
  id: string;
  app: string | null;
  environment: string | null;
  title: string;
  body: string;
  link: string | null;
  at: Date;
  seen: number;
};
const MOST = 100;

export class Notices {
  constructor(
    private readonly database: Database,
    private readonly clock: { now: () => number; newId: () => string },
  ) {}

  /** Notifies the members of an environment; false when they were notified before. */
  async tell({ environmentId, once, title, body, link }: NewNotice): Promise<boolean> {
    const { affectedRows } = await this.database.change(
      'INSERT IGNORE INTO notices (id, environmentId, once, title, body, link, at) VALUES (?, ?, ?, ?, ?, ?, ?)',
      [this.clock.newId(), environmentId, once, title.slice(0, 200), body.slice(0, 1000), link, new Date(this.clock.now())],
    );
    return affectedRows === 1;
  }

  /** The notices of a member: about environments they have a role in, and about the installation. */
  async list(member: Pick<SignedInMember, 'id' | 'owner'>): Promise<{ items: Notice[]; unread: number }> {
    const rows = await this.database.rows<NoticeRow>(
      `SELECT n.id, e.app, e.name AS environment, n.title, n.body, n.link, n.at, COALESCE(n.at <= r.until, FALSE) AS seen
       FROM notices n LEFT JOIN environments e ON e.id = n.environmentId LEFT JOIN noticesRead r ON r.memberId = ?
       WHERE n.environmentId IS NULL OR ? OR n.environmentId IN (SELECT environmentId FROM memberRoles WHERE memberId = ?)
       ORDER BY n.at DESC LIMIT ${MOST}`,
      [member.id, member.owner, member.id],
    );
    const items = rows.map(({ seen, at, ...row }) => ({ ...row, at: at.toISOString(), read: Boolean(seen) }));
    return { items, unread: items.filter(({ read }) => !read).length };
  }

  async read(memberId: string): Promise<void> {
    await this.database.change('REPLACE INTO noticesRead (memberId, until) VALUES (?, ?)', [memberId, new Date(this.clock.now())]);
  }
}
