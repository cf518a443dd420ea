/** What is said once, to whoever writes the app: what the key leads to, or why nothing answers. */
import { Problem, Unreachable } from './problem.js';
import type { Transport } from './transport.js';

const said = new Set<string>();

export async function introduce(transport: Transport, address: string, key: string): Promise<void> {
  const page = (globalThis as { location?: Location }).location;
  // An app in the field says nothing, and makes no call for it.
  if (!isDevelopment(page) || said.has(address + key)) return;
  if ((globalThis as { navigator?: { onLine?: boolean } }).navigator?.onLine === false) return;
  said.add(address + key);
  // What a program prints on standard output is its own.
  const say = page ? console.info : console.error;
  try {
    const { app, environment, client } = await transport.call('clients.connection', {});
    say(`Vivid Orchard: connected to ${app}/${environment} as ${client}, at ${address}`);
  } catch (error) {
    console.warn(`Vivid Orchard: ${await reasonOf(error as Error, address, page)}`);
  }
}

/** A page of this machine; or a program that a developer runs: in a terminal, and not in production. */
function isDevelopment(page: Location | undefined): boolean {
  if (page) return /^(localhost|127\.|\[::1\])|\.localhost$/.test(page.hostname);
  const { process } = globalThis as { process?: { env?: Record<string, string | undefined>; stderr?: { isTTY?: boolean } } };
  return process?.stderr?.isTTY === true && process.env?.NODE_ENV !== 'production';
}

/** A browser says of a call that did not come through only that it failed. The service's open address says more. */
export async function reasonOf(error: Error, address: string, page: Pick<Location, 'origin' | 'protocol'> | undefined): Promise<string> {
  if (error instanceof Problem) return error.detail;
  if (!(error instanceof Unreachable) || error.why !== 'network') return error.message;
  if (page?.protocol === 'https:' && address.startsWith('http:'))
    return `A page of https cannot call ${address}, which is http: the browser blocks it. Give the service an https address.`;
  const open = await fetch(`${address}/healthz`).then(
    (reply) => reply.ok,
    () => false,
  );
  if (open)
    return `${address} answers, but the browser let no answer of the call through to the origin ${page?.origin ?? 'of this page'}. Something on the way takes out the Access-Control headers; or an extension blocks calls.`;
  const blind = await fetch(`${address}/healthz`, { mode: 'no-cors' }).then(
    () => true,
    () => false,
  );
  return blind
    ? `Something answers at ${address}, but it is not this service: it does not let the origin ${page?.origin ?? 'of this page'} read it. Is the address right?`
    : `Nothing answers at ${address}. Is the service running, and does the page's Content-Security-Policy allow it in connect-src?`;
}
