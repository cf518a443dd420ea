/** The simulators as a process: settings in the environment, handsets named by a message of the parent. */
import type { Backend, HandsetKind } from './handset.js';
import { type DirectoryServer, hasDirectory, startDirectory } from './identity/directoryServer.js';
import { startOpenIdProvider } from './identity/openIdProvider.js';
import { startSamlProvider } from './identity/samlProvider.js';
import { Offices } from './offices.js';
import { startSimulators } from './wall.js';

const {
  ORCHARD_SIMULATORS_PORT = '0',
  ORCHARD_SIMULATORS_STATE,
  ORCHARD_SIMULATORS_BOUNCES_PORT,
  ORCHARD_SIMULATORS_IDENTITY_PORT,
  ORCHARD_SIMULATORS_OFFICES_PORT,
} = process.env;
const running = await startSimulators({
  port: Number(ORCHARD_SIMULATORS_PORT),
  ...(ORCHARD_SIMULATORS_BOUNCES_PORT ? { bouncesTo: { host: '127.0.0.1', port: Number(ORCHARD_SIMULATORS_BOUNCES_PORT) } } : {}),
  ...(ORCHARD_SIMULATORS_STATE ? { stateFile: ORCHARD_SIMULATORS_STATE } : {}),
});
const { cairn, tarn, sms, mail, authority, network } = running;
const identity = ORCHARD_SIMULATORS_IDENTITY_PORT ? await startIdentity(Number(ORCHARD_SIMULATORS_IDENTITY_PORT)) : null;
const offices = ORCHARD_SIMULATORS_OFFICES_PORT ? new Offices() : null;
await offices?.start(Number(ORCHARD_SIMULATORS_OFFICES_PORT));
process.send?.({
  offices: offices?.address ?? null,
  identity: identity?.told ?? null,
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
  await Promise.all([running.stop(), identity?.stop(), offices?.stop()]);
  process.exit(0);
}
process.on('SIGINT', stop);
process.on('SIGTERM', stop);
process.on('disconnect', stop);

/** Providers of identity: OpenID Connect, SAML, and a directory where this machine has OpenLDAP. They take four ports. */
async function startIdentity(port: number) {
  const openid = await startOpenIdProvider({ port });
  // Only this machine's services come back from here.
  openid.allow(/^http:\/\/(127\.0\.0\.1|([a-z0-9-]+\.)*localhost):\d+\//);
  const saml = await startSamlProvider({ port: port + 1, authority: running.authority, trusting: true });
  const directory: DirectoryServer | null = hasDirectory()
    ? await startDirectory({ authority: running.authority, ports: [port + 2, port + 3] })
    : null;
  const { issuer, client } = openid;
  const told = {
    openid: { issuer, clientId: client.id, secret: client.secret },
    saml: { metadata: saml.metadata() },
    directory: directory && {
      address: directory.address,
      trust: directory.trust,
      bindDn: directory.reader.dn,
      secret: directory.reader.password,
      base: directory.people,
      groups: { base: directory.groups },
    },
  };
  return { told, stop: () => Promise.all([openid.stop(), saml.stop(), directory?.stop()]) };
}
