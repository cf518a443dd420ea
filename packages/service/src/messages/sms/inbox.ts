/** From SMS centres: receipts for sent messages, and messages from phones. */
import { grouped } from '@orchard/core';
import { type OptWords, PhoneNumberError, readOptWord, readPhoneNumber } from '@orchard/core/messages';
import type { IncomingSms, Receipt } from '@orchard/core/smpp';
import type { SmsEvents } from '../gateways/smpp.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { type DeliveryResult, endByReceipt, findReceipted } from '../notifications/deliveryStore.js';
import { OptOutStore } from '../optOuts/store.js';
import { keepMessage } from './inboxStore.js';

/** SMPP 3.4 appendix B: what a receipt's state means for a delivery; other states do not change it. */
const ENDS: Record<string, { state: 'arrived' | 'expired' | 'failed'; reason: string | null }> = {
  DELIVRD: { state: 'arrived', reason: null },
  EXPIRED: { state: 'expired', reason: 'The phone was not reached in time.' },
  UNDELIV: { state: 'failed', reason: 'The phone could not be reached.' },
  REJECTD: { state: 'failed', reason: 'The SMS network rejected the message.' },
  DELETED: { state: 'failed', reason: 'The SMS network deleted the message.' },
};
const receiptWords = (said: string) => `receipt: ${said}`;
/** A receipt can arrive before the response to its message is stored, so it waits briefly before it is written. */
const GATHER_MS = 200;
const TRIES_MS = [300, 1000, 3000, 10_000];
type Waiting = { receipt: Receipt; resolve: () => void; reject: (error: unknown) => void; tries: number };

/** Receipts and messages of one gateway. Receipts are gathered briefly and written together. */
export function smsEvents(parts: Parts, environment: Environment, gateway: string): SmsEvents {
  let gathered: Waiting[] = [];
  let gathering = false;
  async function write(): Promise<void> {
    gathering = false;
    const batch = gathered;
    gathered = [];
    try {
      const unknown = await noteReceipts(parts, environment, gateway, batch);
      for (const waiting of batch) if (!unknown.has(waiting)) waiting.resolve();
      for (const waiting of unknown) retry(waiting);
      parts.changes.wake(environment.id);
    } catch (error) {
      for (const waiting of batch) waiting.reject(error);
    }
  }
  function gather(waiting: Waiting): void {
    gathered.push(waiting);
    if (gathering) return;
    gathering = true;
    setTimeout(() => void write(), GATHER_MS);
  }
  function retry(waiting: Waiting): void {
    const wait = TRIES_MS[waiting.tries++];
    // A receipt for an unknown message is acknowledged all the same, or the centre would redeliver it forever.
    if (wait === undefined) return waiting.resolve();
    setTimeout(() => gather(waiting), wait).unref();
  }
  return {
    receipt: (receipt) =>
      new Promise((resolve, reject) => {
        // The journal writes at the end of this turn, which stores the receipt.
        if (parts.journal.amend(environment.id, gateway, receipt.messageId, (result) => amend(result, receipt, parts.now())))
          setImmediate(resolve);
        else gather({ receipt, resolve, reject, tries: 0 });
      }),
    message: async (message) => takeMessage(parts, environment, gateway, message),
  };
}

/** Merges a receipt into a result that is not written yet. */
function amend(result: DeliveryResult, { state: said }: Receipt, now: number): void {
  const end = ENDS[said];
  if (!end || result.state !== 'accepted') return;
  result.state = end.state;
  result.reason = end.reason;
  result.said = receiptWords(said);
  // No other receipt will look for it.
  result.receiptId = null;
  if (end.state === 'arrived') result.receivedAt = new Date(now);
}

/** Writes receipts, one statement for each state and notification. @returns those whose message is not known yet */
async function noteReceipts(parts: Parts, environment: Environment, gateway: string, batch: Waiting[]): Promise<Set<Waiting>> {
  const now = new Date(parts.now());
  const ids = batch.map(({ receipt }) => receipt.messageId);
  const found = await findReceipted(environment, gateway, ids);
  const states = new Map(batch.map(({ receipt }) => [receipt.messageId, receipt.state]));
  const groups = grouped(found, ({ receiptId, notificationId }) => `${states.get(receiptId)} ${notificationId}`);
  for (const rows of groups.values()) {
    const [{ receiptId, notificationId }] = rows as [(typeof rows)[number]];
    const said = states.get(receiptId) ?? '';
    const end = ENDS[said];
    if (!end) continue;
    const targets = rows.map(({ target }) => target);
    await endByReceipt(environment, notificationId, targets, { ...end, said: receiptWords(said) }, now);
  }
  const known = new Set(found.map(({ receiptId }) => receiptId));
  return new Set(batch.filter(({ receipt }) => !known.has(receipt.messageId)));
}

/** Stores a message from a phone, and applies an opt-out or opt-in in it. */
async function takeMessage(parts: Parts, environment: Environment, gateway: string, message: IncomingSms): Promise<void> {
  if (await parts.gatewayPorts.memberAnswered(environment, asNumber(message.from), message.text)) return;
  const { optWords } = await parts.messageSettings.read(environment);
  const asked = readOptWord(message.text, optWords as OptWords);
  const sender = asNumber(message.from);
  const now = new Date(parts.now());
  await environment.db.transaction(async (on) => {
    const received = { id: parts.newId(), gateway, sender, recipient: message.to, text: message.text, asked, at: now };
    await keepMessage(environment, received, on);
    if (asked)
      await new OptOutStore().write(
        environment,
        { way: 'sms', address: sender, state: asked, because: `Replied “${message.text.trim().slice(0, 100)}”.`, at: now },
        on,
      );
  });
  parts.changes.wake(environment.id);
}

function asNumber(from: string): string {
  try {
    return readPhoneNumber(from).number;
  } catch (error) {
    if (error instanceof PhoneNumberError) return from.slice(0, 21);
    throw error;
  }
}
