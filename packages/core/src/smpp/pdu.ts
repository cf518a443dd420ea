/** Protocol data units of SMPP 3.4 (Short Message Peer to Peer Protocol Specification v3.4, issue 1.2). */

/** Section 5.1.2.1. */
export const COMMANDS = {
  bind_receiver: 0x01,
  bind_transmitter: 0x02,
  submit_sm: 0x04,
  deliver_sm: 0x05,
  unbind: 0x06,
  bind_transceiver: 0x09,
  enquire_link: 0x15,
  generic_nack: 0x80000000,
} as const;
export type CommandName = keyof typeof COMMANDS;
const RESPONSE = 0x80000000;
const NAMES = new Map<number, CommandName>(Object.entries(COMMANDS).map(([name, id]) => [id, name as CommandName]));

/** Section 5.1.3: the states that the product tells apart. */
export const STATUS = {
  ESME_ROK: 0x00,
  ESME_RINVMSGLEN: 0x01,
  ESME_RINVCMDID: 0x03,
  ESME_RINVBNDSTS: 0x04,
  ESME_RALYBND: 0x05,
  ESME_RSYSERR: 0x08,
  ESME_RINVSRCADR: 0x0a,
  ESME_RINVDSTADR: 0x0b,
  ESME_RBINDFAIL: 0x0d,
  ESME_RINVPASWD: 0x0e,
  ESME_RINVSYSID: 0x0f,
  ESME_RMSGQFUL: 0x14,
  ESME_RSUBMITFAIL: 0x45,
  ESME_RTHROTTLED: 0x58,
} as const;
const STATUS_NAMES = new Map<number, string>(Object.entries(STATUS).map(([name, code]) => [code, name]));
export const statusName = (code: number): string => STATUS_NAMES.get(code) ?? `status 0x${code.toString(16).padStart(8, '0')}`;

type FieldKind = 'cstring' | 'int1' | 'message';
type Field = readonly [name: string, kind: FieldKind, most?: number];
const BIND: Field[] = [
  ['system_id', 'cstring', 16],
  ['password', 'cstring', 9],
  ['system_type', 'cstring', 13],
  ['interface_version', 'int1'],
  ['addr_ton', 'int1'],
  ['addr_npi', 'int1'],
  ['address_range', 'cstring', 41],
];
const BIND_RESPONSE: Field[] = [['system_id', 'cstring', 16]];
/** Sections 4.4.1 and 4.6.1: submit_sm and deliver_sm have the same fields. */
const SHORT_MESSAGE: Field[] = [
  ['service_type', 'cstring', 6],
  ['source_addr_ton', 'int1'],
  ['source_addr_npi', 'int1'],
  ['source_addr', 'cstring', 21],
  ['dest_addr_ton', 'int1'],
  ['dest_addr_npi', 'int1'],
  ['destination_addr', 'cstring', 21],
  ['esm_class', 'int1'],
  ['protocol_id', 'int1'],
  ['priority_flag', 'int1'],
  ['schedule_delivery_time', 'cstring', 17],
  ['validity_period', 'cstring', 17],
  ['registered_delivery', 'int1'],
  ['replace_if_present_flag', 'int1'],
  ['data_coding', 'int1'],
  ['sm_default_msg_id', 'int1'],
  ['short_message', 'message', 254],
];
const FIELDS: Record<string, Field[]> = {
  bind_receiver: BIND,
  bind_transmitter: BIND,
  bind_transceiver: BIND,
  bind_receiver_resp: BIND_RESPONSE,
  bind_transmitter_resp: BIND_RESPONSE,
  bind_transceiver_resp: BIND_RESPONSE,
  submit_sm: SHORT_MESSAGE,
  submit_sm_resp: [['message_id', 'cstring', 65]],
  deliver_sm: SHORT_MESSAGE,
  deliver_sm_resp: [['message_id', 'cstring', 65]],
};
/** Section 5.3.1: optional parameters that are read; others are skipped. */
const OPTIONAL = { receipted_message_id: 0x001e, message_state: 0x0427, sc_interface_version: 0x0210, message_payload: 0x0424 } as const;
const OPTIONAL_NAMES = new Map<number, keyof typeof OPTIONAL>(
  Object.entries(OPTIONAL).map(([name, tag]) => [tag, name as keyof typeof OPTIONAL]),
);

export type Fields = Record<string, string | number | Uint8Array>;
export type Pdu = { command: CommandName; response: boolean; status: number; sequence: number; fields: Fields };

const HEADER = 16;
/** Far more than any unit of the protocol needs; a length beyond it means that the stream is not SMPP. */
export const MOST_OCTETS = 70_000;

/** Octets that are no protocol data unit. `sequence` is that of the unit, as far as it could be read. */
export class SmppError extends Error {
  constructor(
    message: string,
    readonly sequence = 0,
  ) {
    super(message);
  }
}

/** A buffer for building units; each one is copied out of it. */
const scratch = Buffer.allocUnsafe(2 * MOST_OCTETS);

/** Writes a mandatory field. @returns where the next one begins */
function writeField(at: number, [name, kind, most = 0]: Field, value: Fields[string] | undefined): number {
  if (kind === 'int1') return scratch.writeUInt8(Number(value ?? 0) & 0xff, at);
  if (kind === 'message') {
    const octets = value instanceof Uint8Array ? value : Buffer.from(String(value ?? ''), 'latin1');
    if (octets.length > most) throw new SmppError(`${name} has ${octets.length} octets; at most ${most} fit.`);
    scratch.writeUInt8(octets.length, at);
    scratch.set(octets, at + 1);
    return at + 1 + octets.length;
  }
  const text = String(value ?? '');
  // Section 3.1: a C-octet string counts its NULL within its size.
  if (text.length > most - 1) throw new SmppError(`${name} takes at most ${most - 1} characters.`);
  return writeText(at, text);
}

/** Writes a C-octet string: its characters and a NULL. */
function writeText(at: number, text: string): number {
  return scratch.writeUInt8(0, at + scratch.write(text, at, 'latin1'));
}

/** Writes an optional parameter: tag, length, value (section 3.2.4.1). */
function writeOptional(at: number, tag: number, value: Fields[string]): number {
  let end = at + 4;
  if (typeof value === 'number') end = scratch.writeUInt8(value, end);
  else if (typeof value === 'string') end = writeText(end, value);
  else {
    scratch.set(value, end);
    end += value.length;
  }
  scratch.writeUInt16BE(tag, at);
  scratch.writeUInt16BE(end - at - 4, at + 2);
  return end;
}

const OPTIONAL_TAGS = Object.entries(OPTIONAL);

/** Writes a unit. @throws {SmppError} when a field is too long */
export function encodePdu({ command, response, status, sequence, fields }: Pdu): Buffer {
  let at = HEADER;
  // Sections 4.1.2 and 4.4.2: a response of failure carries no body.
  const declared = response && status !== 0 ? [] : (FIELDS[response ? `${command}_resp` : command] ?? []);
  for (const field of declared) at = writeField(at, field, fields[field[0]]);
  for (const [name, tag] of OPTIONAL_TAGS) {
    const value = fields[name];
    if (value !== undefined) at = writeOptional(at, tag, value);
  }
  scratch.writeUInt32BE(at, 0);
  scratch.writeUInt32BE((COMMANDS[command] | (response ? RESPONSE : 0)) >>> 0, 4);
  scratch.writeUInt32BE(status, 8);
  scratch.writeUInt32BE(sequence, 12);
  return Buffer.from(scratch.subarray(0, at));
}

/** Reads one whole unit. @throws {SmppError} */
export function decodePdu(octets: Buffer): Pdu {
  const id = octets.readUInt32BE(4);
  const status = octets.readUInt32BE(8);
  const sequence = octets.readUInt32BE(12);
  const response = id >= RESPONSE;
  const command = id === COMMANDS.generic_nack ? 'generic_nack' : NAMES.get(id & 0x7fffffff);
  if (!command) throw new SmppError(`0x${id.toString(16)} is no command of SMPP 3.4 that is spoken here.`, sequence);
  const fields: Fields = {};
  let at = HEADER;
  const declared = FIELDS[response ? `${command}_resp` : command] ?? [];
  // Section 4.1.2: when the command failed, its response may have no body.
  for (const [name, kind] of at < octets.length ? declared : []) {
    if (at >= octets.length) throw new SmppError(`The unit ends before ${name}.`, sequence);
    if (kind === 'int1') fields[name] = octets.readUInt8(at++);
    else if (kind === 'message') {
      const length = octets.readUInt8(at);
      if (at + 1 + length > octets.length) throw new SmppError(`The unit ends within ${name}.`, sequence);
      fields[name] = octets.subarray(at + 1, at + 1 + length);
      at += 1 + length;
    } else {
      const end = octets.indexOf(0, at);
      if (end < 0) throw new SmppError(`${name} has no end.`, sequence);
      fields[name] = octets.toString('latin1', at, end);
      at = end + 1;
    }
  }
  readOptional(octets, at, fields);
  return { command, response, status, sequence, fields };
}

/** Section 3.2.4.1: tag, length, value. */
function readOptional(octets: Buffer, from: number, fields: Fields): void {
  for (let at = from; at + 4 <= octets.length; ) {
    const name = OPTIONAL_NAMES.get(octets.readUInt16BE(at));
    const value = octets.subarray(at + 4, at + 4 + octets.readUInt16BE(at + 2));
    at += 4 + value.length + (value.length < octets.readUInt16BE(at + 2) ? octets.length : 0);
    if (name === 'message_state' || name === 'sc_interface_version') fields[name] = value[0] ?? 0;
    else if (name === 'receipted_message_id') fields[name] = value.toString('latin1').replace(/\0.*$/s, '');
    else if (name) fields[name] = value;
  }
}

/** Cuts a stream of octets into units, whatever the chunks. */
export class PduReader {
  #kept: Buffer = Buffer.alloc(0);

  /** @throws {SmppError} when the stream is not SMPP */
  push(chunk: Buffer): Pdu[] {
    this.#kept = this.#kept.length ? Buffer.concat([this.#kept, chunk]) : chunk;
    const units: Pdu[] = [];
    let at = 0;
    while (this.#kept.length - at >= HEADER) {
      const length = this.#kept.readUInt32BE(at);
      if (length < HEADER || length > MOST_OCTETS) throw new SmppError(`A unit of ${length} octets is not SMPP.`);
      if (this.#kept.length - at < length) break;
      units.push(decodePdu(this.#kept.subarray(at, at + length)));
      at += length;
    }
    this.#kept = this.#kept.subarray(at);
    return units;
  }
}
