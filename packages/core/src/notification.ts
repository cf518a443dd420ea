/** What a notification says, and how it looks on the wire to a device of ours. */
import type { JsonObject } from './json.js';

export type NotificationContent = {
  title: string;
  body?: string | undefined;
  /** The number on the app's icon; 0 clears it. */
  badge?: number | undefined;
  sound?: string | undefined;
  /** Where opening it leads: an absolute URL, or a path inside the app. */
  link?: string | undefined;
  data?: JsonObject | undefined;
};

/** The document a device receives, after decryption. */
export type NotificationMessage = NotificationContent & { notification: string; sentAt: string };

/**
 * RFC 8030 section 7.2: a push service may refuse bodies over 4096 octets. RFC 8291 section 4: with its header and
 * padding delimiter that leaves 3993 octets of plaintext.
 */
export const MAX_MESSAGE_BYTES = 3993;

/** Serialises a message; the caller checks its size against {@link MAX_MESSAGE_BYTES}. */
export function composeMessage(notification: string, sentAt: string, content: NotificationContent): Uint8Array {
  const message: NotificationMessage = { notification, sentAt, ...content };
  return new TextEncoder().encode(JSON.stringify(message));
}
