/** One message to a member on one way, through the gateways of the installation. */
import type { MemberWayKind } from '@orchard/contract';
import { type OutgoingMessage, type Outcome, type Sender, singleMessage } from '../../messages/gateways/sender.js';
import type { OutgoingMail } from '../../platform/ports.js';
import type { Parts } from './parts.js';
import type { WayRow } from './store.js';

export type Said = { id: string; title: string; body: string /** A path of the console. */; link: string | null; urgent: boolean };
/** Where a message goes. */
export type Address = Pick<WayRow, 'kind' | 'address'> & Partial<Pick<WayRow, 'p256dh' | 'auth' | 'pushKey' | 'timeZone'>>;

/** A push network keeps a message this long. */
const TTL_S = 86_400;

/** What the installation lacks for a kind of way; null where it can be used. */
export async function missingFor(parts: Parts, kind: MemberWayKind): Promise<string | null> {
  const ground = parts.directory.installation();
  if (kind === 'browser') return null;
  if (kind === 'sms')
    return (await parts.gateways.openFor(ground, 'sms'))
      ? null
      : 'The installation has no gateway for SMS. An owner adds one under Setup, Installation.';
  return (await parts.memberMail.isSet())
    ? null
    : 'The installation has no gateway for mail. An owner adds one under Setup, Installation, or sets ORCHARD_SMTP_URL.';
}

/** Sends at once. Never throws for what a gateway does: that is the outcome. */
export async function sendTo(parts: Parts, address: Address, said: Said): Promise<Outcome> {
  const ground = parts.directory.installation();
  if (address.kind === 'mail') return sendMail(parts, address, said);
  const sender: Sender | undefined =
    address.kind === 'browser' ? parts.webPush.senderFor(ground) : (await parts.gateways.openFor(ground, 'sms'))?.sender;
  if (!sender) return { kind: 'later', answer: null, reason: 'The installation has no gateway for SMS.', afterMs: null };
  return sender.send(outgoing(parts, address, said));
}

/** Mail goes through a gateway, or else through the mail server of the settings. */
async function sendMail(parts: Parts, { address }: Address, said: Said): Promise<Outcome> {
  const link = said.link ? `\n\n${parts.address()}${said.link}` : '';
  try {
    await parts.memberMail.send({ to: address, subject: said.title, text: `${said.body}${link}\n` });
    return { kind: 'accepted', answer: null };
  } catch (error) {
    return { kind: 'later', answer: null, reason: (error as Error).message, afterMs: null };
  }
}

/** Sends a mail of the installation through a gateway of its own; false if it has none. @throws Error when it is refused */
export async function mailThrough(parts: Parts, { to, subject, text, html, files }: OutgoingMail): Promise<boolean> {
  const gateway = await parts.gateways.openFor(parts.directory.installation(), 'mail');
  if (!gateway) return false;
  const said = { id: parts.newId(), title: subject, body: text, link: null, urgent: true };
  const message = outgoing(parts, { kind: 'mail', address: to }, said);
  const outcome = await gateway.sender.send({ ...message, content: { ...message.content, ...(html ? { html } : {}) }, files });
  if (outcome.kind !== 'accepted') throw new Error(outcome.reason);
  return true;
}

function outgoing(parts: Parts, { kind, address, p256dh, auth, pushKey, timeZone }: Address, said: Said): OutgoingMessage {
  const link = said.link ?? undefined;
  const content = kind === 'sms' ? { body: shortText(parts, said) } : { title: said.title, body: said.body, ...(link ? { link } : {}) };
  return singleMessage(parts, {
    id: said.id,
    urgency: said.urgent ? 'high' : 'normal',
    content,
    target: {
      target: address,
      endpoint: kind === 'browser' ? address : null,
      p256dh: p256dh ?? null,
      auth: auth ?? null,
      pushKey: pushKey ?? null,
      platform: kind === 'sms' ? 'sms' : 'web',
      locale: 'en',
      timeZone: timeZone ?? 'UTC',
    },
    ttlS: TTL_S,
  });
}

const shortText = ({ address }: Parts, { title, body, link }: Said): string =>
  [title, body, link && `${address()}${link}`].filter(Boolean).join(' ');
