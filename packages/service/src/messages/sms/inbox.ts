/** What SMS centres bring: receipts for messages sent, and messages from phones. */
import { grouped } from '@orchard/core';
import { type OptWords, PhoneNumberError, readOptWord, readPhoneNumber } from '@orchard/core/messages';
import type { IncomingSms, Receipt } from '@orchard/core/smpp';
import type { SmsEvents } from '../gateways/smpp.js';
import type { Environment } from '../../platform/call.js';
import type { DeliveryResult } from '../notifications/deliveries.js';
import type { Parts } from './parts.js';
import { deliveryTable } from '../notifications/tables.js';
import { OptOutStore } from '../optOuts/store.js';
import { smsInboxTable } from './tables.js';
import { userTable } from '../../people/users/tables.js';

/** SMPP 3.4 appendix B: what a state of a receipt means for a delivery; those not named leave it as it is. */
const ENDS: Record<string, { state: 'arrived' | 'expired' | 'failed'; reason: string | null }> = {
  DELIVRD: { state: 'arrived', reason: null },
  EXPIRED: { state: 'expired', reason: 'The phone was not reached in time.' },
  UNDELIV: { state: 'failed', reason: 'The phone could not be reached.' },
  REJECTD: { state: 'failed', reason: 'The SMS network rejected the message.' },
  DELETED: { state: 'failed', reason: 'The SMS network deleted the message.' },
};
const receiptWords = (said: string) => `receipt: ${said}`;
/** A receipt can be here before the answer to its message is stored, so it waits a moment before it is written. */
const GATHER_MS = 200;
const TRIES_MS = [300, 1000, 3000, 10_000];
type Waiting = { receipt: Receipt; resolve: () => void; reject: (error: unknown) => void; tries: number };

/** Receipts and messages of one gateway. Receipts are gathered for a moment and written together. */
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
    // One for a message that is not of ours is taken all the same, or the centre would bring it for ever.
    if (wait === undefined) return waiting.resolve();
    setTimeout(() => gather(waiting), wait).unref();
  }
  return {
    receipt: (receipt) =>
      new Promise((resolve, reject) => {
        // The journal writes at the end of this turn, and what it has is stored.
        if (parts.journal.amend(environment.id, gateway, receipt.messageId, (result) => amend(result, receipt, parts.now())))
          setImmediate(resolve);
        else gather({ receipt, resolve, reject, tries: 0 });
      }),
    message: async (message) => takeMessage(parts, environment, gateway, message),
  };
}

/** What a receipt says, over a result that is not written yet. */
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
  const table = `${environment.db.of(deliveryTable)}`;
  const found = await environment.db.runRows<{ receiptId: string; notificationId: string; target: string }>(
    `SELECT receiptId, notificationId, target FROM ${table} WHERE receiptId IN (?) AND gateway = ?`,
    [batch.map(({ receipt }) => receipt.messageId), gateway],
  );
  const states = new Map(batch.map(({ receipt }) => [receipt.messageId, receipt.state]));
  const groups = grouped(found, ({ receiptId, notificationId }) => `${states.get(receiptId)} ${notificationId}`);
  for (const rows of groups.values()) {
    const [{ receiptId, notificationId }] = rows as [(typeof rows)[number]];
    const said = states.get(receiptId) ?? '';
    const end = ENDS[said];
    if (!end) continue;
    // By the primary key and in its order, as results are written, so that the two never wait for each other in a ring.
    await environment.db.run(
      `UPDATE ${table} SET state = ?, reason = ?, said = ?, receivedAt = ?, updatedAt = ? WHERE notificationId = ? AND target IN (?) AND state IN ('queued', 'accepted')`,
      [
        ...[end.state, end.reason, receiptWords(said), end.state === 'arrived' ? now : null, now, notificationId],
        rows.map(({ target }) => target).sort(),
      ],
    );
  }
  const known = new Set(found.map(({ receiptId }) => receiptId));
  return new Set(batch.filter(({ receipt }) => !known.has(receipt.messageId)));
}

/** Keeps a message from a phone, and obeys it when it asks for no more messages, or for messages again. */
async function takeMessage(parts: Parts, environment: Environment, gateway: string, message: IncomingSms): Promise<void> {
  const { optWords } = await parts.messageSettings.read(environment);
  const asked = readOptWord(message.text, optWords as OptWords);
  const sender = asNumber(message.from);
  const now = new Date(parts.now());
  await environment.db.transaction(async (on) => {
    await on.change(
      `INSERT INTO ${environment.db.of(smsInboxTable)} (id, gateway, sender, recipient, text, asked, userId, at)
       VALUES (?, ?, ?, ?, ?, ?, (SELECT id FROM ${environment.db.of(userTable)} WHERE phone = ? ORDER BY phoneVerifiedAt DESC LIMIT 1), ?)`,
      [parts.newId(), gateway, sender, message.to, message.text, asked, sender, now],
    );
    if (asked)
      await new OptOutStore().write(
        environment,
        { way: 'sms', address: sender, state: asked, because: `Answered “${message.text.trim().slice(0, 100)}”.`, at: now },
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
