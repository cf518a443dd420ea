/** Short messages inside SMPP units: addresses, encodings, joined segments, and receipts. */
import { decodeSms, encodeSms, segmentsOf } from '../messages/sms.js';
import type { Fields } from './pdu.js';

/** Sections 5.2.5 and 5.2.6: type of number and numbering plan. */
const TON = { unknown: 0, international: 1, alphanumeric: 5 };
const NPI = { unknown: 0, isdn: 1 };
/** Section 5.2.19. */
const DATA_CODING = { gsm7: 0, ucs2: 8 } as const;
/** Section 5.2.12: bits of esm_class. */
const ESM = { receipt: 0x04, userDataHeader: 0x40 };
/** Section 5.2.28, and the words of appendix B. */
export const MESSAGE_STATES: Record<number, string> = {
  1: 'ENROUTE',
  2: 'DELIVRD',
  3: 'EXPIRED',
  4: 'DELETED',
  5: 'UNDELIV',
  6: 'ACCEPTD',
  7: 'UNKNOWN',
  8: 'REJECTD',
};

/** A sender or recipient: digits are an international number, letters (at most 11) a name. */
function addressOf(address: string): { ton: number; npi: number; text: string } {
  if (!/^\+?\d+$/.test(address)) return { ton: TON.alphanumeric, npi: NPI.unknown, text: address };
  if (address.startsWith('+')) return { ton: TON.international, npi: NPI.isdn, text: address.slice(1) };
  return { ton: address.length <= 8 ? TON.unknown : TON.international, npi: NPI.isdn, text: address };
}

/** The fields of a short message that every one has. Written out: a spread would cost as much as the rest of sending. */
function shortMessage(from: string, to: string, esmClass: number, octets: Uint8Array): Fields {
  const [source, destination] = [addressOf(from), addressOf(to)];
  return {
    source_addr_ton: source.ton,
    source_addr_npi: source.npi,
    source_addr: source.text,
    dest_addr_ton: destination.ton,
    dest_addr_npi: destination.npi,
    destination_addr: destination.text,
    esm_class: esmClass,
    short_message: octets,
  };
}

export type OutgoingSms = {
  from: string;
  to: string;
  text: string;
  /** Joins the segments of one message: 0 to 255. */
  reference: number;
  /** Minutes that it is kept for an unreachable phone. */
  validMin?: number | undefined;
};

type Encoded = { text: string; encoding: 'gsm7' | 'ucs2'; parts: Uint8Array[] };
let latest: Encoded = { text: '', encoding: 'gsm7', parts: [new Uint8Array()] };
/** Many messages in a row have the same text, so its octets are cached. */
function encoded(text: string): Encoded {
  if (latest.text === text) return latest;
  const { encoding, parts } = segmentsOf(text);
  latest = { text, encoding, parts: parts.map((part) => encodeSms(part, encoding)) };
  return latest;
}

/** The fields of one submit_sm for each segment. Each one requests a receipt. */
export function submitFields({ from, to, text, reference, validMin }: OutgoingSms): Fields[] {
  const { encoding, parts } = encoded(text);
  const joined = parts.length > 1;
  return parts.map((octets, i) => {
    // 3GPP TS 23.040 section 9.2.3.24.1: concatenated short messages, eight-bit reference.
    const whole = joined ? Buffer.concat([Uint8Array.from([5, 0, 3, reference & 0xff, parts.length, i + 1]), octets]) : octets;
    const fields = shortMessage(from, to, joined ? ESM.userDataHeader : 0, whole);
    fields.registered_delivery = 1;
    fields.data_coding = DATA_CODING[encoding];
    if (validMin !== undefined) fields.validity_period = relativeTime(validMin);
    return fields;
  });
}

const two = (value: number) => String(value).padStart(2, '0');
let latestTime = { minutes: -1, text: '' };
/** Section 7.1.1.2, relative form: YYMMDDhhmmss000R. */
function relativeTime(minutes: number): string {
  if (latestTime.minutes !== minutes) {
    const days = two(Math.min(30, Math.floor(minutes / 1440)));
    latestTime = { minutes, text: `0000${days}${two(Math.floor(minutes / 60) % 24)}${two(minutes % 60)}00000R` };
  }
  return latestTime.text;
}

export type IncomingSms = { from: string; to: string; text: string; part: { reference: number; of: number; number: number } | null };
export type Receipt = { messageId: string; state: string; error: string | null };

const numberOf = (ton: unknown, address: unknown) => (ton === TON.international ? `+${address}` : String(address));

/** What a deliver_sm carries: a receipt for a message sent before, or a message from a phone. */
export function readDelivery(fields: Fields): { receipt: Receipt } | { message: IncomingSms } {
  const esm = Number(fields.esm_class ?? 0);
  const octets = (fields.message_payload ?? fields.short_message ?? new Uint8Array()) as Uint8Array;
  if (esm & ESM.receipt) return { receipt: readReceipt(fields, Buffer.from(octets).toString('latin1')) };
  let body = octets;
  let part: IncomingSms['part'] = null;
  if (esm & ESM.userDataHeader) {
    const length = octets[0] ?? 0;
    if (octets[1] === 0 && octets[2] === 3) part = { reference: octets[3] as number, of: octets[4] as number, number: octets[5] as number };
    body = octets.subarray(1 + length);
  }
  const text =
    fields.data_coding === DATA_CODING.ucs2
      ? decodeSms(body, 'ucs2')
      : fields.data_coding === 3
        ? Buffer.from(body).toString('latin1')
        : decodeSms(body, 'gsm7');
  return {
    message: {
      from: numberOf(fields.source_addr_ton, fields.source_addr),
      to: numberOf(fields.dest_addr_ton, fields.destination_addr),
      text,
      part,
    },
  };
}

/** Appendix B: `id:… sub:… dlvrd:… submit date:… done date:… stat:… err:… text:…`; optional parameters go before it. */
function readReceipt(fields: Fields, text: string): Receipt {
  const said = (name: string) => new RegExp(`(?:^|\\s)${name}:\\s*(\\S+)`, 'i').exec(text)?.[1];
  const state = typeof fields.message_state === 'number' ? MESSAGE_STATES[fields.message_state] : said('stat');
  return { messageId: String(fields.receipted_message_id ?? said('id') ?? ''), state: state ?? 'UNKNOWN', error: said('err') ?? null };
}

/** The fields of a receipt, as an SMS centre sends them. */
export function receiptFields(message: { from: string; to: string; messageId: string; state: number; text: string; at: Date }): Fields {
  const date = message.at.toISOString().replace(/[-:T]/g, '').slice(2, 12);
  const stat = MESSAGE_STATES[message.state] ?? 'UNKNOWN';
  const arrived = message.state === 2 ? 1 : 0;
  const text = `id:${message.messageId} sub:001 dlvrd:00${arrived} submit date:${date} done date:${date} stat:${stat} err:000 text:${message.text.slice(0, 20)}`;
  const fields = shortMessage(message.to, message.from, ESM.receipt, Buffer.from(text, 'latin1'));
  fields.receipted_message_id = message.messageId;
  fields.message_state = message.state;
  return fields;
}

/** The fields of messages from a phone, as an SMS centre hands them on. */
export function incomingFields(message: { from: string; to: string; text: string; reference: number }): Fields[] {
  return submitFields(message).map((fields) => ({ ...fields, registered_delivery: 0 }));
}
