import { createServer } from 'node:net';

/** Below the ports that outgoing connections take, so that none of these is taken meanwhile. */
const [LOWEST, HIGHEST] = [20_000, 32_000];
const TRIES = 100;

const isFree = (port: number) =>
  new Promise<boolean>((resolve) => {
    const probe = createServer().once('error', () => resolve(false));
    probe.listen(port, '127.0.0.1', () => probe.close(() => resolve(true)));
  });

/** Whether nobody listens on a port of loopback, nor on those that follow it. */
export const areFree = async (first: number, count: number): Promise<boolean> =>
  (await Promise.all(Array.from({ length: count }, (_, n) => isFree(first + n)))).every(Boolean);

/** The first of a row of ports nobody listens on now. */
export async function freePorts(count: number): Promise<number> {
  for (let tries = 0; tries < TRIES; tries++) {
    const first = LOWEST + Math.floor(Math.random() * (HIGHEST - LOWEST));
    if (await areFree(first, count)) return first;
  }
  throw new Error(`No ${count} free ports in a row.`);
}

export const freePort = (): Promise<number> => freePorts(1);
