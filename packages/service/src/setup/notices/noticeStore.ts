/** Notices to the team; each is given only once. */
import type { AlertCause, Notice } from '@orchard/contract';
import type { Database } from '../../platform/database/connection.js';
import type { SignedInMember } from '../../platform/call.js';

export type NoticeKind = Exclude<AlertCause, 'condition' | 'budget'> | 'schema';

export type NewNotice = {
  /** Null: about the installation. */
  environmentId: string | null;
  /** What kind of thing it tells, for those who want to be alerted. */
  kind: NoticeKind;
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
  #told: (notice: NewNotice) => Promise<void> = async () => undefined;

  constructor(
    private readonly database: Database,
    private readonly clock: { now: () => number; newId: () => string },
  ) {}

  /** Called for each notice that was given. */
  onTold(listener: (notice: NewNotice) => Promise<void>): void {
    this.#told = listener;
  }

  /** Notifies the members of an environment; false when they were notified before. */
  async tell(notice: NewNotice): Promise<boolean> {
    const { environmentId, once, title, body, link } = notice;
    const { affectedRows } = await this.database.change(
      'INSERT IGNORE INTO notices (id, environmentId, once, title, body, link, at) VALUES (?, ?, ?, ?, ?, ?, ?)',
      [this.clock.newId(), environmentId, once, title.slice(0, 200), body.slice(0, 1000), link, new Date(this.clock.now())],
    );
    const isNew = affectedRows === 1;
    if (isNew) await this.#told(notice);
    return isNew;
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
