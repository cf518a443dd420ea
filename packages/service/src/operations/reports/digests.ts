/** Digests: who reads them, when they are due, and what goes out. */
import { type DigestDocument, type NewDigest, Problem } from '@orchard/contract';
import {
  type Digest,
  type DigestMail,
  digestMail,
  digestPeriod,
  nextDigestAt,
  readKey,
  formatKey,
  type ReportDocument,
} from '@orchard/core';
import { stringify } from 'csv-stringify/sync';
import { roleReaches } from '../../platform/access/memberDirectory.js';
import { hashKey } from '../../platform/access/secrets.js';
import type { Environment, SignedInMember } from '../../platform/call.js';
import { type Job, MOST_ATTEMPTS } from '../../platform/jobs/queue.js';
import type { MailFile } from '../../platform/ports.js';
import { INSTALLATION } from '../../platform/database/servers.js';
import { type DigestRow, DigestStore, type ReaderRow } from './digestStore.js';
import { makeReport, SUMMARY_TITLE } from './making.js';
import type { Parts } from './parts.js';
import { chartPicture } from './pictures.js';
import { demandReport } from './store.js';

export const DIGEST_JOB = 'send-digest';

type Made = { mail: DigestMail; files: MailFile[] };

export class Digests {
  readonly #store: DigestStore;

  constructor(private readonly parts: Parts) {
    this.#store = new DigestStore(parts.database);
  }

  /** Digests that a member made or reads. */
  async listFor(member: SignedInMember): Promise<DigestDocument[]> {
    const found = (await this.#store.all()).filter(({ digest, readers }) => this.#concerns(member, digest, readers));
    return Promise.all(found.map((one) => this.#present(member, one)));
  }

  /** @throws {Problem} not-found */
  async readFor(member: SignedInMember, id: string): Promise<DigestDocument> {
    return this.#present(member, await this.#demand(member, id));
  }

  #concerns(member: SignedInMember, digest: DigestRow, readers: readonly ReaderRow[]): boolean {
    return digest.memberId === member.id || readers.some(({ memberId }) => memberId === member.id);
  }

  async #demand(member: SignedInMember, id: string): Promise<{ digest: DigestRow; readers: ReaderRow[] }> {
    const found = await this.#store.demand(id);
    // One that is somebody else's is not told apart from one that is not there.
    if (!this.#concerns(member, found.digest, found.readers))
      throw new Problem('not-found', `There is no digest ${id}. \`orchard digest list\` lists them.`);
    return found;
  }

  async #present(member: SignedInMember, { digest, readers }: { digest: DigestRow; readers: ReaderRow[] }): Promise<DigestDocument> {
    const roles = await this.parts.members.rolesOf(member);
    const known = await this.#known();
    const mine = digest.memberId === member.id || member.owner;
    const { environments, ...settings } = digest.settings;
    return {
      id: digest.id,
      name: digest.name,
      ...settings,
      environments: environments.filter((place) => roles.has(known.get(`${place.app}/${place.environment}`)?.id ?? '')),
      // A reader sees only that they read it.
      readers: readers.filter(({ memberId }) => mine || memberId === member.id).map((row) => this.#presentReader(row)),
      by: this.parts.actors.document({ kind: 'member', id: digest.memberId }),
      mine,
    };
  }

  #presentReader({
    id,
    memberId,
    address,
    timeZone,
    confirmedAt,
    nextAt,
    lastSentAt,
    lastFailure,
  }: ReaderRow): DigestDocument['readers'][number] {
    return {
      id,
      member:
        memberId === null ? null : { id: memberId, name: this.parts.actors.document({ kind: 'member', id: memberId }).name ?? memberId },
      address,
      timeZone,
      confirmed: confirmedAt !== null,
      nextAt: nextAt?.toISOString() ?? null,
      lastSentAt: lastSentAt?.toISOString() ?? null,
      lastFailure,
    };
  }

  async #known(): Promise<Map<string, Environment>> {
    const all = await this.parts.directory.allEnvironments();
    return new Map(all.map((environment) => [`${environment.app}/${environment.name}`, environment]));
  }

  /**
   * Addresses get a mail that asks them to confirm.
   * @throws {Problem} not-found, role-insufficient, gateway-missing
   */
  async add(member: SignedInMember, { name, readers, ...settings }: NewDigest): Promise<DigestDocument> {
    await this.#demandPlaces(member, settings.environments, readers.length > 0);
    if (readers.some((reader) => 'address' in reader)) await this.demandMail();
    const now = this.parts.now();
    const digest: DigestRow = { id: this.parts.newId(), name, settings, memberId: member.id, createdAt: new Date(now) };
    const wanted = [{ member: member.id }, ...readers.filter((reader) => !('member' in reader && reader.member === member.id))];
    const rows: ReaderRow[] = [];
    const links: { address: string; token: string }[] = [];
    for (const reader of wanted) {
      const timeZone = reader.timeZone ?? settings.timeZone;
      const isMember = 'member' in reader;
      if (isMember && !(await this.parts.members.memberById(reader.member)))
        throw new Problem('not-found', `There is no member ${reader.member} who has joined. \`orchard member list\` lists them.`);
      const token = formatKey('setup', this.parts.random(16));
      if (!isMember) links.push({ address: reader.address, token });
      rows.push({
        id: this.parts.newId(),
        digestId: digest.id,
        memberId: isMember ? reader.member : null,
        address: isMember ? null : reader.address,
        timeZone,
        tokenHash: hashKey(token),
        confirmedAt: isMember ? new Date(now) : null,
        nextAt: isMember ? new Date(nextDigestAt(now, settings, timeZone)) : null,
        lastSentAt: null,
        lastFailure: null,
      });
    }
    for (const { address, token } of links) await this.#askToConfirm(member, digest, address, token);
    await this.#store.add(digest, rows);
    return this.#present(member, { digest, readers: rows });
  }

  /** The environments and reports must be there; to send them to others takes a maintainer. */
  async #demandPlaces(member: SignedInMember, places: NewDigest['environments'], toOthers: boolean): Promise<void> {
    const known = await this.#known();
    const roles = await this.parts.members.rolesOf(member);
    for (const { app, environment: name, reports } of places) {
      const environment = known.get(`${app}/${name}`);
      const role = environment && roles.get(environment.id);
      if (!environment || !role) throw new Problem('not-found', `There is no environment ${app}/${name} that you may see.`);
      if (toOthers && !roleReaches(role, 'maintainer'))
        throw new Problem(
          'role-insufficient',
          `To send ${app}/${name} to others needs the role maintainer there; yours is ${role}. Leave \`readers\` out to get it yourself.`,
        );
      for (const report of reports) await demandReport(environment, report);
    }
  }

  /** @throws {Problem} gateway-missing */
  async demandMail(): Promise<void> {
    const missing = await this.missing();
    if (missing) throw new Problem('gateway-missing', missing);
  }

  async missing(): Promise<string | null> {
    return (await this.parts.memberMail.isSet())
      ? null
      : 'The installation cannot send mail. An owner adds a mail gateway under Setup, Installation, or sets ORCHARD_SMTP_URL.';
  }

  async #askToConfirm(member: SignedInMember, digest: DigestRow, address: string, token: string): Promise<void> {
    const link = `${this.parts.address()}/digest?token=${token}`;
    const { every, environments } = digest.settings;
    const places = environments.map(({ app, environment }) => `${app}/${environment}`).join(', ');
    await this.#mail({
      to: address,
      subject: `Confirm that you want ${digest.name}`,
      text: `${member.name} wants to send you the digest ${digest.name} of ${places}, once a ${every}.\n\nConfirm it here:\n${link}\n\nIf you do not want it, ignore this mail: nothing more is sent.\n`,
    });
  }

  async #mail(mail: Parameters<Parts['memberMail']['send']>[0]): Promise<void> {
    try {
      await this.parts.memberMail.send(mail);
    } catch (error) {
      throw new Problem('gateway-missing', `The mail server did not accept the mail to ${mail.to}: ${(error as Error).message}.`);
    }
  }

  /** @throws {Problem} not-found, role-insufficient */
  async remove(member: SignedInMember, id: string): Promise<void> {
    const { digest } = await this.#demand(member, id);
    if (digest.memberId !== member.id && !member.owner)
      throw new Problem(
        'role-insufficient',
        'Only whoever made a digest, or an owner, ends it for all. To end it for you, use the link in the mail.',
      );
    await this.#store.remove(id);
  }

  /** @throws {Problem} link-refused */
  async confirm(token: string): Promise<{ name: string; address: string; nextAt: string }> {
    const found = readKey(token).ok ? await this.#store.readerOf(hashKey(token)) : undefined;
    const address = found?.reader.address;
    if (!found || !address) throw new Problem('link-refused');
    const now = this.parts.now();
    const nextAt = new Date(nextDigestAt(now, found.digest.settings, found.reader.timeZone));
    await this.#store.updateReader(found.reader.id, { confirmedAt: found.reader.confirmedAt ?? new Date(now), nextAt });
    return { name: found.digest.name, address, nextAt: nextAt.toISOString() };
  }

  /** @throws {Problem} link-refused */
  async end(token: string): Promise<{ name: string }> {
    const found = readKey(token).ok ? await this.#store.readerOf(hashKey(token)) : undefined;
    if (!found) throw new Problem('link-refused');
    await this.#store.removeReader(found.reader.id);
    return { name: found.digest.name };
  }

  /** Queues what is due; of several instances one wins each reader. */
  async queueDue(): Promise<void> {
    const now = this.parts.now();
    const ground = { id: INSTALLATION, db: this.parts.servers.installation };
    for (const { id, nextAt } of await this.#store.due(new Date(now))) {
      const found = await this.#store.reader(id);
      if (!found || !nextAt) continue;
      const next = new Date(nextDigestAt(now, found.digest.settings, found.reader.timeZone));
      await this.parts.database.unit(async () => {
        if (await this.#store.advance(id, nextAt, next))
          await this.parts.jobs.add(this.parts.database, ground, DIGEST_JOB, `${id}@${nextAt.getTime()}`, new Date(now));
      });
      await this.parts.jobs.wake(ground, new Date(now));
    }
  }

  /** The work of a job. @throws Error for another attempt later */
  work = async ({ subject, attempts }: Pick<Job, 'subject' | 'attempts'>): Promise<null> => {
    const [id = '', due = ''] = subject.split('@');
    const found = await this.#store.reader(id);
    if (!found) return null;
    try {
      await this.#sendTo(found.digest, found.reader, Number(due));
      await this.#store.updateReader(id, { lastSentAt: new Date(this.parts.now()), lastFailure: null });
    } catch (error) {
      await this.#store.updateReader(id, { lastFailure: (error as Error).message.slice(0, 500) });
      // What was decided does not change with another attempt.
      if (!(error instanceof Problem && error.name === 'wrong-state') && attempts + 1 < MOST_ATTEMPTS) throw error;
    }
    return null;
  };

  /** @throws {Problem} wrong-state when the reader may see nothing of it any more */
  async #sendTo(digest: DigestRow, reader: ReaderRow, at: number): Promise<void> {
    const token = formatKey('setup', this.parts.random(16));
    const member = await this.parts.members.memberById(reader.memberId ?? digest.memberId);
    if (!member) throw new Problem('wrong-state', 'The member who made it is not there any more.');
    const made = await this.#make(digest, member, reader.timeZone, at, { asOutsider: reader.address !== null, token });
    await this.#store.updateReader(reader.id, { tokenHash: hashKey(token) });
    const { subject, html, text } = made.mail;
    await this.#mail({ to: reader.address ?? member.email, subject, html, text, files: made.files });
  }

  /** @throws {Problem} not-found, wrong-state, gateway-missing */
  async sendNow(member: SignedInMember, id: string): Promise<{ to: string }> {
    const { digest, readers } = await this.#demand(member, id);
    await this.demandMail();
    const reader = readers.find(({ memberId }) => memberId === member.id);
    const made = await this.#make(digest, member, reader?.timeZone ?? digest.settings.timeZone, this.parts.now(), {});
    const { subject, html, text } = made.mail;
    await this.#mail({ to: member.email, subject, html, text, files: made.files });
    return { to: member.email };
  }

  /** With pictures in the page itself. @throws {Problem} not-found, wrong-state */
  async preview(member: SignedInMember, id: string): Promise<{ subject: string; html: string; text: string; files: string[] }> {
    const { digest, readers } = await this.#demand(member, id);
    const reader = readers.find(({ memberId }) => memberId === member.id);
    const { mail, files } = await this.#make(digest, member, reader?.timeZone ?? digest.settings.timeZone, this.parts.now(), {});
    const pictures = new Map(files.flatMap(({ cid, content }) => (cid ? [[cid, content.toString('base64')] as const] : [])));
    const html = mail.html.replace(/cid:(chart-\d+)/g, (_, cid: string) => `data:image/png;base64,${pictures.get(cid) ?? ''}`);
    return { subject: mail.subject, html, text: mail.text, files: files.filter(({ cid }) => !cid).map(({ name }) => name) };
  }

  /**
   * @param member whose rights bound what it shows
   * @param at when it is due
   */
  async #make(
    digest: DigestRow,
    member: SignedInMember,
    zone: string,
    at: number,
    { asOutsider = false, token }: { asOutsider?: boolean; token?: string },
  ): Promise<Made> {
    const { environments, ...schedule } = digest.settings;
    const period = { ...digestPeriod(at, schedule, zone), zone };
    const roles = await this.parts.members.rolesOf(member);
    const known = await this.#known();
    const reports: ReportDocument[] = [];
    let leftOut = 0;
    for (const place of environments) {
      const environment = known.get(`${place.app}/${place.environment}`);
      const role = environment && roles.get(environment.id);
      // What goes to somebody who is no member takes whoever made it to be a maintainer still.
      if (!environment || !role || (asOutsider && !roleReaches(role, 'maintainer'))) {
        leftOut++;
        continue;
      }
      const reader = { member, role };
      reports.push(await makeReport(this.parts, reader, environment, { name: SUMMARY_TITLE, source: 'summary', period: 'week' }, period));
      for (const id of place.reports) {
        const report = await demandReport(environment, id).catch(ignoreMissing);
        if (report) reports.push(await makeReport(this.parts, reader, environment, report, period));
      }
    }
    if (reports.length === 0)
      throw new Problem('wrong-state', 'Nothing was sent: the reader has no role in any of its environments any more.');
    const made: Digest = {
      name: digest.name,
      every: schedule.every,
      ...period,
      base: this.parts.address(),
      reports,
      leftOut,
      endLink: token ? `${this.parts.address()}/digest?token=${token}&end=1` : `${this.parts.address()}/account`,
    };
    const mail = digestMail(made);
    const pictures = await Promise.all(
      mail.charts.map(async (chart, i) => ({
        name: `chart-${i}.png`,
        type: 'image/png',
        content: await chartPicture(chart),
        cid: `chart-${i}`,
      })),
    );
    return { mail, files: [...pictures, ...mail.tables.map(tableFile)] };
  }
}

/** A report that was removed meanwhile is left out. */
function ignoreMissing(error: unknown): null {
  if (error instanceof Problem && error.name === 'not-found') return null;
  throw error;
}

/** RFC 4180, with cells that begin like a formula escaped. */
export const inCsv = (rows: DigestMail['tables'][number]['rows']): string =>
  stringify(rows, { escape_formulas: true, record_delimiter: '\r\n' });

const tableFile = ({ name, rows }: DigestMail['tables'][number]): MailFile => ({
  name,
  type: 'text/csv; charset=utf-8; header=present',
  content: Buffer.from(inCsv(rows)),
});
