/** What every gateway offers to sending: one message in, one outcome out. */
import type { JsonObject } from '@orchard/core';
import type { NotificationContent } from '@orchard/core/messages';

/** Where one delivery goes. Which members are filled depends on the way. */
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
/** One message that is ready: templates filled, content chosen. */
export type OutgoingMessage = {
  notification: { id: string; sentAt: string; urgency: string; replaces: string | null; expiresAt: number };
  content: NotificationContent;
  overlay: JsonObject | undefined;
  target: Target;
  /** Seconds the network may keep it. */
  ttlS: number;
  attempt: number;
};
/**
 * What became of one message at the network. `said`: the network's own words; `messageId`: its id of the message;
 * `receiptId`: the same, where word comes later that names it.
 */
export type Outcome = { answer: number | null; said?: string | null; messageId?: string | null; receiptId?: string; segments?: number } & (
  | { kind: 'accepted' }
  /** The device is gone for good. */
  | { kind: 'gone'; reason: string }
  | { kind: 'refused'; reason: string }
  /** `credentials`: it is the gateway's own that are refused, so that every other message would fare the same. */
  | { kind: 'later'; reason: string; afterMs: number | null; credentials?: true }
);
export type CheckStep = { what: string; ok: boolean; text: string };

export interface Sender {
  /** How many messages are under way at a time. */
  readonly atOnce: number;
  /** Never throws: whatever happens is an outcome. */
  send(message: OutgoingMessage): Promise<Outcome>;
  /** Bytes of the message as it would go out, and how many may. */
  sizeOf(message: OutgoingMessage): { bytes: number; mostBytes: number } | null;
  /** Tries the way without sending to anyone; a later step is left out when an earlier one fails. */
  check(): Promise<CheckStep[]>;
  close(): void;
}

/** A connection error in words a developer can act on. */
export function connectionWords(error: unknown): string {
  const { code, message } = error as { code?: string; message: string };
  const words: Record<string, string> = {
    ECONNREFUSED: 'nothing listens there',
    ENOTFOUND: 'its host name is not known',
    EAI_AGAIN: 'the name server does not answer',
    ETIMEDOUT: 'it did not answer in time',
    ECONNRESET: 'it closed the connection',
    EPIPE: 'it closed the connection',
    UND_ERR_SOCKET: 'it closed the connection',
    UNABLE_TO_VERIFY_LEAF_SIGNATURE: 'its certificate is of an authority that is not trusted; give its PEM as `trust`',
    SELF_SIGNED_CERT_IN_CHAIN: 'its certificate is of an authority that is not trusted; give its PEM as `trust`',
    DEPTH_ZERO_SELF_SIGNED_CERT: 'its certificate is its own authority; give its PEM as `trust`',
    CERT_HAS_EXPIRED: 'its certificate has expired',
    ERR_TLS_CERT_ALTNAME_INVALID: 'its certificate is for another host',
  };
  return code ? `${words[code] ?? message} (${code})` : message;
}
