/** The mail server: SMTP with STARTTLS and sign-in, mailboxes behind it, faults, and failure notices. */
import nodemailer from 'nodemailer';
import { SMTPServer } from 'smtp-server';
import type { AddressInfo } from 'node:net';
import { afterAll, afterEach, beforeAll, describe, expect, inject, it } from 'vitest';
import { MAIL_ACCOUNT, type Simulators, startSimulators } from '../src/index.js';

let simulators: Simulators;
let notices: { from: string; to: string[]; text: string }[] = [];
let receiver: SMTPServer;

beforeAll(async () => {
  receiver = new SMTPServer({
    authOptional: true,
    disabledCommands: ['AUTH', 'STARTTLS'],
    onData: (stream, session, done) => {
      let text = '';
      stream.on('data', (chunk) => (text += chunk));
      stream.on('end', () => {
        const { mailFrom, rcptTo } = session.envelope;
        notices.push({ from: mailFrom ? mailFrom.address : '', to: rcptTo.map(({ address }) => address), text });
        done();
      });
    },
  });
  const server = receiver.listen(0, '127.0.0.1');
  await new Promise((resolve) => server.once('listening', resolve));
  simulators = await startSimulators({
    port: 0,
    authority: inject('authority'),
    bouncesTo: { host: '127.0.0.1', port: (server.address() as AddressInfo).port },
  });
});
afterAll(async () => {
  await simulators.stop();
  await new Promise<void>((resolve) => receiver.close(() => resolve()));
});
afterEach(() => {
  simulators.mail.faults.set({ mode: 'none' });
  notices = [];
});

const transport = (changes: object = {}) =>
  nodemailer.createTransport({
    host: 'localhost',
    port: simulators.mail.port,
    requireTLS: true,
    tls: { ca: simulators.authority.certificate },
    auth: { user: MAIL_ACCOUNT.user, pass: MAIL_ACCOUNT.password },
    ...changes,
  });
const mail = (to: string) => ({
  from: 'Quillfell Huts <huts@quillfell.example>',
  to,
  subject: 'Bunks free',
  text: 'At Kestrel Rock.',
  html: '<p>At Kestrel Rock.</p>',
});

describe('a mail', () => {
  it('stands in the box of each recipient, with its text and its HTML', async () => {
    await transport().sendMail(mail('wren@hikers.example, aino@hikers.example'));
    for (const address of ['wren@hikers.example', 'aino@hikers.example'])
      expect(simulators.mail.mailsOf(address).at(-1)).toMatchObject({
        from: expect.stringContaining('huts@quillfell.example'),
        subject: 'Bunks free',
        text: expect.stringContaining('At Kestrel Rock.'),
        html: '<p>At Kestrel Rock.</p>',
      });
  });

  it('is not taken from who gives a wrong password, or gives none', async () => {
    const wrong = transport({ auth: { user: MAIL_ACCOUNT.user, pass: 'nonsense' } });
    await expect(wrong.sendMail(mail('wren@hikers.example'))).rejects.toMatchObject({ responseCode: 535 });
    await expect(transport({ auth: undefined }).sendMail(mail('wren@hikers.example'))).rejects.toMatchObject({ responseCode: 530 });
  });

  it('goes over TLS that its authority vouches for, and over no other', async () => {
    await expect(transport({ tls: {} }).sendMail(mail('wren@hikers.example'))).rejects.toThrow(/certificate/);
  });

  it('to a mailbox that is not there is refused at once (RFC 3463, 5.1.1)', async () => {
    await expect(transport().sendMail(mail('nobody@hikers.example'))).rejects.toMatchObject({ responseCode: 550 });
  });

  it('to one that has moved is taken, and comes back as a failure notice without a sender (RFC 3464)', async () => {
    await transport().sendMail({
      ...mail('moved@hikers.example'),
      envelope: { from: 'huts+mark@quillfell.example', to: 'moved@hikers.example' },
    });
    for (let tries = 0; tries < 100 && notices.length === 0; tries++) await new Promise((resolve) => setTimeout(resolve, 50));
    expect(notices[0]).toMatchObject({ from: '', to: ['huts+mark@quillfell.example'] });
    expect(notices[0]?.text).toContain('Final-Recipient: rfc822; moved@hikers.example');
    expect(notices[0]?.text).toContain('Status: 5.1.6');
    expect(simulators.mail.mailsOf('moved@hikers.example')).toEqual([]);
  });
});

describe('a fault on request', () => {
  it('refuses with its status, and lets the next one through again', async () => {
    simulators.mail.faults.set({ mode: 'refuse', status: 554 });
    await expect(transport().sendMail(mail('wren@hikers.example'))).rejects.toMatchObject({ responseCode: 554 });
    simulators.mail.faults.set({ mode: 'none' });
    expect((await transport().sendMail(mail('wren@hikers.example'))).accepted).toEqual(['wren@hikers.example']);
  });

  it('throttles with a status that says to come again (RFC 5321 section 4.2.1)', async () => {
    simulators.mail.faults.set({ mode: 'throttle', retryAfterS: 5 });
    await expect(transport().sendMail(mail('wren@hikers.example'))).rejects.toMatchObject({ responseCode: 451 });
  });
});
