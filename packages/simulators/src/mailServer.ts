/** A mail server that speaks SMTP with STARTTLS and authentication, with mailboxes behind it; and failure notices (RFC 3464). */
import type { AddressInfo } from 'node:net';
import { simpleParser } from 'mailparser';
import nodemailer from 'nodemailer';
import { SMTPServer } from 'smtp-server';
import { type Authority, serverCertificate } from './authority.js';
import { Faults } from './faults.js';

export type MailAttachment = { name: string; type: string; bytes: number; text: string };
export type Mail = {
  from: string;
  to: string;
  subject: string;
  text: string;
  html: string | null;
  files: MailAttachment[];
  at: string;
};
export type MailServerOptions = {
  user: string;
  password: string /** Where failure notices are sent: host and port of an SMTP server. */;
  bouncesTo?: { host: string; port: number };
};

export class MailServer {
  readonly faults = new Faults();
  readonly #boxes = new Map<string, Mail[]>();
  readonly #listeners: ((mail: Mail) => void)[] = [];
  accepted = 0;
  port = 0;
  readonly #server: SMTPServer;

  constructor(
    authority: Authority,
    private readonly options: MailServerOptions,
  ) {
    this.#server = new SMTPServer({
      ...serverCertificate(authority),
      authMethods: ['PLAIN', 'LOGIN'],
      disableReverseLookup: true,
      onAuth: (auth, _session, done) =>
        auth.username === options.user && auth.password === options.password
          ? done(null, { user: auth.username })
          : done(new Error('Invalid username or password')),
      onRcptTo: (address, _session, done) => {
        const fault = this.faults.take();
        if (fault.mode === 'refuse') return done(smtpError(fault.status, 'Refused on request'));
        if (fault.mode === 'throttle') return done(smtpError(451, '4.7.1 Too many messages, try again later'));
        // RFC 3463 section 3.2: 5.1.1 is a mailbox that does not exist.
        if (address.address.startsWith('nobody@')) return done(smtpError(550, '5.1.1 There is no such mailbox'));
        done();
      },
      onData: (stream, session, done) => {
        simpleParser(stream)
          .then((parsed) => {
            for (const { address } of session.envelope.rcptTo) {
              this.accepted++;
              const mail = {
                from: parsed.from?.text ?? '',
                to: address,
                subject: parsed.subject ?? '',
                text: parsed.text ?? '',
                html: parsed.html || null,
                files: parsed.attachments.map(({ filename, contentType, size, content }) => ({
                  name: filename ?? '',
                  type: contentType,
                  bytes: size,
                  text: contentType.startsWith('text/') ? content.toString() : '',
                })),
                at: new Date().toISOString(),
              };
              if (address.startsWith('moved@'))
                void this.#bounce(session.envelope.mailFrom ? session.envelope.mailFrom.address : '', address, parsed.messageId ?? '');
              else this.#show(mail);
            }
            done();
          })
          .catch(done);
      },
    });
    this.#server.on('error', () => undefined);
  }

  async start(port = 0): Promise<void> {
    const server = this.#server.listen(port, '127.0.0.1');
    await new Promise<void>((resolve, reject) => server.once('error', reject).once('listening', () => resolve()));
    this.port = (server.address() as AddressInfo).port;
  }

  /** Mails in a mailbox, the oldest first. */
  mailsOf(address: string): Mail[] {
    return this.#boxes.get(address) ?? [];
  }

  onMail(listener: (mail: Mail) => void): void {
    this.#listeners.push(listener);
  }

  #show(mail: Mail): void {
    this.#boxes.set(mail.to, [...this.mailsOf(mail.to), mail].slice(-50));
    for (const listener of this.#listeners) listener(mail);
  }

  /** The mailbox turned out not to exist after the mail was accepted: a delivery status notification informs the sender. */
  async #bounce(sender: string, recipient: string, messageId: string): Promise<void> {
    const { bouncesTo } = this.options;
    if (!bouncesTo || !sender) return;
    const status = [
      'Reporting-MTA: dns; mail.quillfell.example',
      '',
      `Final-Recipient: rfc822; ${recipient}`,
      'Action: failed',
      'Status: 5.1.6',
      'Diagnostic-Code: smtp; 551 5.1.6 The mailbox has moved and left no address',
    ].join('\r\n');
    const boundary = 'quillfell-report';
    const raw = [
      'From: Mail delivery <postmaster@quillfell.example>',
      `To: ${sender}`,
      'Subject: Undelivered mail',
      'Auto-Submitted: auto-replied',
      `In-Reply-To: ${messageId}`,
      'MIME-Version: 1.0',
      `Content-Type: multipart/report; report-type=delivery-status; boundary="${boundary}"`,
      '',
      `--${boundary}`,
      'Content-Type: text/plain; charset=utf-8',
      '',
      `Your message to ${recipient} could not be delivered.`,
      '',
      `--${boundary}`,
      'Content-Type: message/delivery-status',
      '',
      status,
      '',
      `--${boundary}--`,
      '',
    ].join('\r\n');
    const transport = nodemailer.createTransport({ ...bouncesTo, ignoreTLS: true });
    // RFC 3464 section 2: the notice itself has the null sender.
    await transport.sendMail({ envelope: { from: '', to: sender }, raw }).catch(() => undefined);
    transport.close();
  }

  async stop(): Promise<void> {
    await new Promise<void>((resolve) => this.#server.close(() => resolve()));
  }
}

const smtpError = (responseCode: number, message: string) => Object.assign(new Error(message), { responseCode });
