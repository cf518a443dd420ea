/** The simulators as a process: settings in the environment, handsets named by a message of the parent. */
import type { Backend, HandsetKind } from './handset.js';
import { startSimulators } from './wall.js';

const { ORCHARD_SIMULATORS_PORT = '0', ORCHARD_SIMULATORS_STATE } = process.env;
const running = await startSimulators({
  port: Number(ORCHARD_SIMULATORS_PORT),
  ...(ORCHARD_SIMULATORS_STATE ? { stateFile: ORCHARD_SIMULATORS_STATE } : {}),
});
process.send?.({ address: running.address });
process.on('message', async ({ backend, kinds }: { backend: Backend; kinds: HandsetKind[] }) => {
  await running.connect(backend, kinds);
  process.send?.({ connected: true });
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
