import fc from 'fast-check';
import { describe, expect, it } from 'vitest';
import {
  decodePdu,
  encodePdu,
  incomingFields,
  PduReader,
  readDelivery,
  receiptFields,
  SmppError,
  submitFields,
} from '../src/smpp/index.js';

const text = fc.string({ maxLength: 15, unit: fc.constantFrom(...'abcXYZ019 -') });

describe('an SMPP unit', () => {
  it('is the octets of the specification', () => {
    const octets = encodePdu({
      command: 'bind_transceiver',
      response: false,
      status: 0,
      sequence: 1,
      fields: { system_id: 'hut', password: 'pw', interface_version: 0x34 },
    });
    expect(octets.toString('hex')).toBe('0000001c000000090000000000000001687574007077000034000000');
  });

  it('comes out as it went in, however the stream is cut', () => {
    fc.assert(
      fc.property(
        fc.array(fc.record({ to: text, sequence: fc.integer({ min: 1, max: 0x7fffffff }), message: fc.uint8Array({ maxLength: 254 }) }), {
          minLength: 1,
          maxLength: 6,
        }),
        fc.array(fc.nat(40), { minLength: 1 }),
        (messages, cuts) => {
          const stream = Buffer.concat(
            messages.map(({ to, sequence, message }) =>
              encodePdu({
                command: 'submit_sm',
                response: false,
                status: 0,
                sequence,
                fields: { destination_addr: to, short_message: message },
              }),
            ),
          );
          const reader = new PduReader();
          const units = [];
          for (let at = 0, i = 0; at < stream.length; i++) {
            const size = 1 + (cuts[i % cuts.length] as number);
            units.push(...reader.push(stream.subarray(at, at + size)));
            at += size;
          }
          expect(
            units.map(({ sequence, fields }) => [
              fields.destination_addr,
              sequence,
              Buffer.from(fields.short_message as Uint8Array).toString('hex'),
            ]),
          ).toEqual(messages.map(({ to, sequence, message }) => [to, sequence, Buffer.from(message).toString('hex')]));
        },
      ),
    );
  });

  it('never reads beyond its octets, whatever they are', () => {
    fc.assert(
      fc.property(fc.uint8Array({ minLength: 0, maxLength: 60 }), fc.constantFrom(4, 5, 9, 0x80000004, 0x15), (body, id) => {
        const octets = Buffer.alloc(16 + body.length);
        octets.writeUInt32BE(octets.length, 0);
        octets.writeUInt32BE(id, 4);
        octets.set(body, 16);
        try {
          decodePdu(octets);
        } catch (error) {
          expect(error instanceof SmppError || error instanceof RangeError).toBe(true);
        }
      }),
    );
  });

  it('refuses a stream that is not SMPP', () =>
    expect(() => new PduReader().push(Buffer.from('GET / HTTP/1.1\r\n\r\n    '))).toThrow(SmppError));
});

describe('messages and receipts', () => {
  it('join to the text that was sent', () => {
    fc.assert(
      fc.property(fc.string({ minLength: 1, maxLength: 400, unit: 'grapheme' }), (said) => {
        const parts = incomingFields({ from: '+12025550142', to: '1234', text: said, reference: 7 }).map(readDelivery);
        const messages = parts.map((part) => ('message' in part ? part.message : null));
        expect(messages.map((message) => message?.text).join('')).toBe(said);
        expect(messages[0]).toMatchObject({ from: '+12025550142', to: '1234' });
        if (messages.length > 1)
          expect(messages.map((message) => message?.part)).toEqual(
            messages.map((_, i) => ({ reference: 7, of: messages.length, number: i + 1 })),
          );
      }),
    );
  });
  it('name the sender by digits or by letters', () => {
    expect(submitFields({ from: 'Quillfell', to: '+12025550142', text: 'x', reference: 1 })[0]).toMatchObject({
      source_addr_ton: 5,
      source_addr: 'Quillfell',
      dest_addr_ton: 1,
      destination_addr: '12025550142',
    });
  });
  it('tell a receipt by its optional parameters, or by its text', () => {
    const fields = receiptFields({ from: '1234', to: '+12025550142', messageId: 'abc-1', state: 5, text: 'hello', at: new Date(0) });
    const bare = { ...fields };
    delete bare.receipted_message_id;
    delete bare.message_state;
    for (const form of [fields, bare])
      expect(readDelivery(form)).toEqual({ receipt: { messageId: 'abc-1', state: 'UNDELIV', error: '000' } });
  });
});
