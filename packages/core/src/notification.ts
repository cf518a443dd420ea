/** The document of a notification to a device, by web push. */
import { type JsonObject, mergePatch } from './json.js';
import type { NotificationContent } from './messages/content.js';

/** The document a device receives, after decryption. */
export type NotificationMessage = NotificationContent & { notification: string; sentAt: string };

/**
 * RFC 8030 section 7.2: a push service may refuse bodies over 4096 octets. RFC 8291 section 4: with its header and
 * padding delimiter that leaves 3993 octets of plaintext.
 */
export const MAX_MESSAGE_BYTES = 3993;

/** Serialises a message; the caller checks its size against {@link MAX_MESSAGE_BYTES}. */
export function composeMessage(notification: string, sentAt: string, content: NotificationContent, overlay?: JsonObject): Uint8Array {
  const message: NotificationMessage = { notification, sentAt, ...content };
  return new TextEncoder().encode(JSON.stringify(overlay ? mergePatch(message as never, overlay) : message));
}
