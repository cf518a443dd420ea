import { randomBytes } from 'node:crypto';
import { type AddressInfo, createServer, type Server, type Socket } from 'node:net';
import { encodePdu, type Pdu, PduReader, STATUS } from '@orchard/core/smpp';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { SmppLink, type SmppSettings } from '../src/messages/gateways/smppLink.js';
import { eventually } from './support.js';

/** A centre whose answers the test decides. */
let server: Server;
let sockets: Socket[];
let received: Pdu[];
let answerTo: (pdu: Pdu, socket: Socket) => void;
let link: SmppLink | null;
const say = (socket: Socket, pdu: Pdu, status = STATUS.ESME_ROK as number, fields: Pdu['fields'] = {}) =>
  socket.write(encodePdu({ ...pdu, response: true, status, fields }));
const clock = { now: () => Date.now(), random: (bytes: number) => randomBytes(bytes) };
const begin = (changes: Partial<SmppSettings> = {}, onDelivery = async (): Promise<void> => undefined) => {
  const { port } = server.address() as AddressInfo;
  link = new SmppLink(
    { host: '127.0.0.1', port, tls: false, systemId: 'quillfell', systemType: '', binds: 1, window: 3, enquireMs: 1000, ...changes },
    'ridge42',
    onDelivery,
    clock,
  );
  link.open();
  return link;
};
const of = (command: string) => received.filter((pdu) => pdu.command === command && !pdu.response);

beforeEach(async () => {
  sockets = [];
  received = [];
  answerTo = (pdu, socket) => say(socket, pdu, STATUS.ESME_ROK, { system_id: 'HERON', message_id: String(pdu.sequence) });
  server = createServer((socket) => {
    sockets.push(socket);
    const reader = new PduReader();
    socket.on('error', () => undefined);
    socket.on('data', (chunk: Buffer) => {
      for (const pdu of reader.push(chunk)) {
        received.push(pdu);
        if (!pdu.response) answerTo(pdu, socket);
      }
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
});
afterEach(async () => {
  link?.close();
  for (const socket of sockets) socket.destroy();
  await new Promise((resolve) => server.close(resolve));
});

describe('a link to an SMS centre', () => {
  it('binds as transceiver with version 3.4, and unbinds when it is closed', async () => {
    const state = await begin().settled(3000);
    expect(state).toEqual({ bound: true, text: 'Bound as quillfell to HERON.' });
    expect(of('bind_transceiver')[0]?.fields).toMatchObject({ system_id: 'quillfell', password: 'ridge42', interface_version: 0x34 });
    link?.close();
    await eventually(() => of('unbind').length === 1);
  });

  it.each([
    [STATUS.ESME_RINVSYSID, 'does not know the system id'],
    [STATUS.ESME_RALYBND, 'lower `binds`'],
    [STATUS.ESME_RBINDFAIL, 'ESME_RBINDFAIL'],
  ])('says why it is not bound: 0x%s', async (status, words) => {
    answerTo = (pdu, socket) => say(socket, pdu, status);
    const state = await begin().settled(3000);
    expect([state.bound, state.text]).toEqual([false, expect.stringContaining(words)]);
  });

  it('keeps no more under way than its window', async () => {
    const held: (() => void)[] = [];
    await begin().settled(3000);
    answerTo = (pdu, socket) => held.push(() => say(socket, pdu, STATUS.ESME_ROK, { message_id: 'x' }));
    const sent = Array.from({ length: 8 }, (_, i) => link?.submit({ destination_addr: String(i) }));
    await eventually(() => of('submit_sm').length === 3);
    expect(held).toHaveLength(3);
    for (let done = 0; done < 8; done++) {
      await eventually(() => held.length > 0);
      held.shift()?.();
    }
    expect((await Promise.all(sent)).map((pdu) => pdu?.status)).toEqual(Array.from({ length: 8 }, () => 0));
  });

  it('asks a silent centre whether it lives, and connects anew when no answer comes', async () => {
    await begin({ enquireMs: 150 }).settled(3000);
    await eventually(() => of('enquire_link').length > 0);
    for (const socket of sockets) socket.destroy();
    expect((await eventually(() => (link?.state.bound === false ? link.state : null)))?.text).toContain('Not bound');
    await eventually(() => link?.state.bound && sockets.length === 2);
  });

  it('fails what is under way when the connection ends, so that it can be tried again', async () => {
    await begin().settled(3000);
    answerTo = (_pdu, socket) => socket.destroy();
    await expect(link?.submit({ destination_addr: '1' })).rejects.toThrow('closed the connection');
  });

  it('answers enquire_link and unknown commands, and takes a message only when it is kept', async () => {
    let keep: (() => void) | null = null;
    let refuse: ((error: Error) => void) | null = null;
    await begin({}, () => new Promise<void>((resolve, reject) => ((keep = resolve), (refuse = reject)))).settled(3000);
    const [socket] = sockets as [Socket];
    const bring = (command: Pdu['command'], sequence: number) =>
      socket.write(encodePdu({ command, response: false, status: 0, sequence, fields: {} }));
    const answerOf = (sequence: number) => received.find((pdu) => pdu.response && pdu.sequence === sequence);
    bring('enquire_link', 71);
    expect((await eventually(() => answerOf(71)))?.status).toBe(STATUS.ESME_ROK);
    bring('submit_sm', 72);
    expect(await eventually(() => answerOf(72))).toMatchObject({ command: 'generic_nack', status: STATUS.ESME_RINVCMDID });
    bring('deliver_sm', 73);
    await eventually(() => keep);
    expect(answerOf(73)).toBeUndefined();
    (keep as unknown as () => void)();
    expect((await eventually(() => answerOf(73)))?.status).toBe(STATUS.ESME_ROK);
    keep = null;
    bring('deliver_sm', 74);
    await eventually(() => keep);
    (refuse as unknown as (error: Error) => void)(new Error('the database is away'));
    expect((await eventually(() => answerOf(74)))?.status).toBe(STATUS.ESME_RSYSERR);
  });
});
