/** The simulators as a process: settings in the environment, handsets named by a message of the parent. */
import type { Backend, HandsetKind } from './handset.js';
import { startSimulators } from './wall.js';

const { ORCHARD_SIMULATORS_PORT = '0', ORCHARD_SIMULATORS_STATE, ORCHARD_SIMULATORS_BOUNCES_PORT } = process.env;
const running = await startSimulators({
  port: Number(ORCHARD_SIMULATORS_PORT),
  ...(ORCHARD_SIMULATORS_BOUNCES_PORT ? { bouncesTo: { host: '127.0.0.1', port: Number(ORCHARD_SIMULATORS_BOUNCES_PORT) } } : {}),
  ...(ORCHARD_SIMULATORS_STATE ? { stateFile: ORCHARD_SIMULATORS_STATE } : {}),
});
const { cairn, tarn, sms, mail, authority, network } = running;
process.send?.({
  address: running.address,
  cairn: cairn.address,
  tarn: tarn.address,
  smpp: sms.port,
  heron: sms.httpAddress,
  heronToken: sms.httpToken,
  smtp: mail.port,
  authority: authority.certificate,
});
type Order = { backend: Backend; kinds: HandsetKind[] } | { count: true };
process.on('message', async (order: Order) => {
  if ('backend' in order) {
    await running.connect(order.backend, order.kinds);
    process.send?.({ connected: true });
  } else process.send?.({ web: network.accepted, cairn: cairn.accepted, tarn: tarn.accepted, sms: sms.accepted, mail: mail.accepted });
});

let stopping = false;
async function stop(): Promise<void> {
  if (stopping) return;
  stopping = true;
  await running.stop();
  process.exit(0);
}
process.on('SIGINT', stop);
process.on('SIGTERM', stop);
process.on('disconnect', stop);
