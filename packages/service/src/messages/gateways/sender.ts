/** What every gateway offers to sending: one message in, one outcome out. */
import type { JsonObject } from '@orchard/core';
import type { NotificationContent } from '@orchard/core/messages';
import type { MailFile } from '../../platform/ports.js';

/** Where one delivery goes. The way decides which members are set. */
export type Target = {
  /** Device's id, phone number or mail address. */
  target: string;
  endpoint?: string | null;
  p256dh?: string | null;
  auth?: string | null;
  pushKey?: string | null;
  token?: string | null;
  platform: string;
  locale: string;
  timeZone: string;
  /** The number on the app's icon, as far as it is known. */
  badge?: number | null;
};
/** One message, ready to send: content chosen, templates filled. */
export type OutgoingMessage = {
  notification: { id: string; sentAt: string; urgency: string; replaces: string | null; expiresAt: number };
  content: NotificationContent;
  overlay: JsonObject | undefined;
  /** Of a mail. */
  files?: readonly MailFile[] | undefined;
  target: Target;
  /** Seconds the network may keep it. */
  ttlS: number;
  attempt: number;
};
/** A message of the service itself to one address: a code, a mail about an account, a call to a member. */
export function singleMessage(
  { now, newId }: { now: () => number; newId: () => string },
  of: Pick<OutgoingMessage, 'content' | 'target' | 'ttlS'> & { id?: string; urgency?: 'high' | 'normal' },
): OutgoingMessage {
  const { content, target, ttlS, id = newId(), urgency = 'high' } = of;
  const sentAt = now();
  const notification = { id, sentAt: new Date(sentAt).toISOString(), urgency, replaces: null, expiresAt: sentAt + ttlS * 1000 };
  return { notification, content, overlay: undefined, target, ttlS, attempt: 1 };
}

/** One exchange over HTTP as it was made. */
export type HttpExchange = {
  method: string;
  url: URL;
  headers: Record<string, string>;
  /** Text, or how many bytes of something else. */
  body: string | number;
  answer: { headers: Record<string, unknown>; text: string } | null;
};

/**
 * The outcome of one message at the network. `said`: the network's message; `messageId`: its id of the message; `receiptId`:
 * the same, if a receipt will name it later.
 */
export type Outcome = {
  answer: number | null;
  said?: string | null;
  messageId?: string | null;
  receiptId?: string;
  segments?: number;
  /** Of the last attempt over HTTP. */
  exchange?: HttpExchange;
} & (
  | { kind: 'accepted' }
  /** The address will never work again. */
  | { kind: 'gone'; reason: string }
  | { kind: 'refused'; reason: string }
  /** `credentials`: the gateway's own were refused, so every other message would be refused too. */
  | { kind: 'later'; reason: string; afterMs: number | null; credentials?: true }
);
export type CheckStep = { what: string; ok: boolean; text: string };

export interface Sender {
  /** How many messages are in flight at a time. */
  readonly atOnce: number;
  /** Never throws: every failure is an outcome. */
  send(message: OutgoingMessage): Promise<Outcome>;
  /** Bytes of the message as it would go out, and how many may. */
  sizeOf(message: OutgoingMessage): { bytes: number; mostBytes: number } | null;
  /** Checks the gateway without sending a message; stops at the first failing step. */
  check(): Promise<CheckStep[]>;
  close(): void;
}

/** A connection error as a message that a developer can act on. */
export function connectionWords(error: unknown): string {
  const { code, message } = error as { code?: string; message: string };
  const words: Record<string, string> = {
    ECONNREFUSED: 'nothing listens there',
    ENOTFOUND: 'its host name is not known',
    EAI_AGAIN: 'the name server does not answer',
    ETIMEDOUT: 'it timed out',
    ECONNRESET: 'it closed the connection',
    EPIPE: 'it closed the connection',
    UND_ERR_SOCKET: 'it closed the connection',
    UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'its certificate is from an untrusted authority; give its PEM as `trust`',
    SELF_SIGNED_CERT_IN_CHAIN: 'its certificate is from an untrusted authority; give its PEM as `trust`',
    DEPTH_ZERO_SELF_SIGNED_CERT: 'its certificate is self-signed; give its PEM as `trust`',
    CERT_HAS_EXPIRED: 'its certificate has expired',
    ERR_TLS_CERT_ALTNAME_INVALID: 'its certificate is for another host',
  };
  return code ? `${words[code] ?? message} (${code})` : message;
}
