/** The mail gateway: SMTP with nodemailer. */
import nodemailer, { type Transporter } from 'nodemailer';
import type SMTPPool from 'nodemailer/lib/smtp-pool/index.js';
import { mailParts } from '../../platform/mailParts.js';
import { type CheckStep, connectionWords, type OutgoingMessage, type Outcome, type Sender } from './sender.js';

export type MailSettings = {
  host: string;
  port: number;
  security: 'starttls' | 'tls' | 'none';
  trust?: string | undefined;
  from: string;
  user?: string | undefined;
  bouncesTo?: string | undefined;
};

type SmtpError = Error & { responseCode?: number; response?: string; code?: string };

export class MailSender implements Sender {
  readonly atOnce = 10;
  readonly #transport: Transporter<SMTPPool.SentMessageInfo>;

  constructor(
    private readonly settings: MailSettings,
    password: string,
    /** A fresh mark that identifies a message in failure notices. */
    private readonly newMark: () => string,
  ) {
    const { host, port, security, trust, user } = settings;
    this.#transport = nodemailer.createTransport({
      pool: true,
      maxConnections: 5,
      host,
      port,
      secure: security === 'tls',
      requireTLS: security === 'starttls',
      ignoreTLS: security === 'none',
      ...(trust ? { tls: { ca: trust } } : {}),
      ...(user ? { auth: { user, pass: password } } : {}),
      connectionTimeout: 10_000,
      socketTimeout: 20_000,
      disableFileAccess: true,
      disableUrlAccess: true,
    });
  }

  sizeOf(): null {
    return null;
  }

  async send({ content, target, files }: OutgoingMessage): Promise<Outcome> {
    const { from, bouncesTo } = this.settings;
    const mark = this.newMark();
    try {
      const sent = await this.#transport.sendMail({
        from,
        // Not to be read again: an address may have quotes, commas and other signs of its own.
        to: { name: '', address: target.target },
        subject: content.title ?? '',
        text: content.body ?? '',
        ...mailParts({ html: content.html, files }),
        messageId: `<${mark}@${domainOf(from)}>`,
        // RFC 3834 section 5: suppresses out-of-office replies.
        headers: { 'Auto-Submitted': 'auto-generated' },
        // RFC 3461: failure notices are requested, to an address that identifies the message.
        ...(bouncesTo
          ? {
              envelope: { from: bounceAddress(bouncesTo, mark), to: target.target },
              dsn: { id: mark, return: 'headers', notify: ['failure'], recipient: target.target },
            }
          : {}),
      });
      const answer = Number.parseInt(sent.response, 10) || 250;
      return { kind: 'accepted', answer, said: sent.response.slice(0, 200), messageId: mark, receiptId: mark };
    } catch (error) {
      return outcomeOf(error as SmtpError);
    }
  }

  async check(): Promise<CheckStep[]> {
    const { host, port, security, user } = this.settings;
    try {
      await this.#transport.verify();
      const how = { starttls: 'over STARTTLS', tls: 'over TLS', none: 'without encryption' }[security];
      return [{ what: 'connection', ok: true, text: `${host}:${port} answers ${how}${user ? ` and accepts ${user}` : ''}.` }];
    } catch (error) {
      return [{ what: 'connection', ok: false, text: smtpWords(error as SmtpError) }];
    }
  }

  close(): void {
    this.#transport.close();
  }
}

const domainOf = (from: string) => /@([^\s>]+)/.exec(from)?.[1] ?? 'localhost';

/** RFC 5233 section 3: the mark goes behind a plus sign. */
export const bounceAddress = (address: string, mark: string): string => address.replace('@', `+${mark}@`);

function smtpWords({ code, response, message, responseCode }: SmtpError): string {
  if (code === 'EAUTH') return `The mail server rejects the user: ${response ?? message}`;
  if (code === 'ETLS' || /STARTTLS/i.test(message)) return `The mail server offers no usable encryption: ${message}`;
  if (responseCode) return `The mail server answered ${response ?? responseCode}`;
  return `The mail server cannot be reached: ${connectionWords({ code, message })}.`;
}

/** RFC 5321 section 4.2.1: 4yz is temporary, 5yz permanent; RFC 3463: 5.1.1 is an address that does not exist. */
function outcomeOf(error: SmtpError): Outcome {
  const { responseCode, response, code } = error;
  const said = response?.slice(0, 200) ?? null;
  const reason = smtpWords(error).slice(0, 280);
  if (!responseCode || responseCode < 500) return { kind: 'later', answer: responseCode ?? null, said, reason, afterMs: null };
  if (code === 'EAUTH') return { kind: 'later', answer: responseCode, said, reason, afterMs: null, credentials: true };
  return { kind: 'refused', answer: responseCode, said, reason };
}
