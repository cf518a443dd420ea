import { createConnection } from 'node:net';
import { encodePdu, type Fields, type Pdu, PduReader, STATUS, submitFields } from '@orchard/core/smpp';
import { afterEach, beforeEach, describe, expect, it } from 'vitest';
import { SmsCentre } from '../src/smsCentre.js';

let centre: SmsCentre;
beforeEach(async () => {
  centre = new SmsCentre();
  centre.openAccount('huts', 'larch', 2);
  centre.openAccount('shop', 'larch');
  await centre.start();
});
afterEach(() => centre.stop());

/** A connection that keeps what the centre brings, and takes it. */
async function connect(systemId: string, password = 'larch') {
  const socket = createConnection(centre.port, '127.0.0.1');
  const reader = new PduReader();
  const brought: Fields[] = [];
  const waiting = new Map<number, (pdu: Pdu) => void>();
  let sequence = 0;
  socket.on('data', (chunk: Buffer) => {
    for (const pdu of reader.push(chunk)) {
      if (pdu.response) waiting.get(pdu.sequence)?.(pdu);
      else {
        brought.push(pdu.fields);
        socket.write(encodePdu({ ...pdu, response: true, status: 0, fields: { message_id: '' } }));
      }
    }
  });
  const ask = (command: Pdu['command'], fields: Fields) =>
    new Promise<Pdu>((resolve) => {
      waiting.set(++sequence, resolve);
      socket.write(encodePdu({ command, response: false, status: 0, sequence, fields }));
    });
  const submit = (to: string) => ask('submit_sm', submitFields({ from: 'Huts', to, text: 'Storm', reference: 1 })[0] as Fields);
  const { status } = await ask('bind_transceiver', { system_id: systemId, password, interface_version: 0x34 });
  return { status, brought, submit, ask, end: () => socket.destroy() };
}
const soon = () => new Promise((resolve) => setTimeout(resolve, 150));

describe('the SMS centre', () => {
  it('binds an account as often as it may, and says which half of its name and password is wrong', async () => {
    const links = [
      await connect('huts'),
      await connect('huts'),
      await connect('huts'),
      await connect('nobody'),
      await connect('huts', 'x'),
    ];
    expect(links.map(({ status }) => status)).toEqual([
      STATUS.ESME_ROK,
      STATUS.ESME_ROK,
      STATUS.ESME_RALYBND,
      STATUS.ESME_RINVSYSID,
      STATUS.ESME_RINVPASWD,
    ]);
    for (const { end } of links) end();
  });

  it('brings each receipt to the account that sent the message, and keeps it while that is away', async () => {
    const [huts, shop] = [await connect('huts'), await connect('shop')];
    const { fields } = await huts.submit('+12025550142');
    await soon();
    expect(huts.brought).toMatchObject([{ receipted_message_id: fields.message_id, message_state: 2 }]);
    expect(shop.brought).toEqual([]);
    const last = await huts.submit('+12025550143');
    huts.end();
    await soon();
    expect(shop.brought).toEqual([]);
    const again = await connect('huts');
    await soon();
    expect(again.brought).toMatchObject([{ receipted_message_id: last.fields.message_id }]);
    for (const { end } of [shop, again]) end();
  });

  it('takes no message before the bind, and brings what phones write to whoever is bound', async () => {
    const stranger = await connect('huts', 'x');
    expect((await stranger.submit('+12025550142')).status).toBe(STATUS.ESME_RINVBNDSTS);
    expect(centre.textsOf('+12025550142')).toEqual([]);
    centre.sendFrom('+12025550142', 'Huts', 'All well.');
    const shop = await connect('shop');
    await soon();
    expect(shop.brought.map(({ short_message: octets }) => Buffer.from(octets as Uint8Array).toString('latin1'))).toEqual(['All well.']);
    for (const { end } of [stranger, shop]) end();
  });
});
