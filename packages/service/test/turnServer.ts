/** A real TURN server of Debian that shares a secret with the service. */
import { spawn } from 'node:child_process';
import { once } from 'node:events';
import { join } from 'node:path';
import { tryAddress } from '../src/messages/turn/trial.js';
import { freePorts } from './ports.js';
import { scratchDirectory } from './scratch.js';
import { eventually } from './support.js';

export const SECRET = 'shared-by-both-0001';
/** Its own port and those it relays from. */
const PORTS = 24;

/** Starts it on loopback, and waits until it listens. */
export async function startTurnServer(): Promise<{ port: number; stop: () => Promise<unknown> }> {
  const port = await freePorts(PORTS);
  const directory = scratchDirectory('turn');
  const child = spawn(
    'turnserver',
    [
      ...['-n', '--listening-ip', '127.0.0.1', '--relay-ip', '127.0.0.1', '--listening-port', String(port)],
      ...['--min-port', String(port + 2), '--max-port', String(port + PORTS - 1), '--allow-loopback-peers'],
      ...['--use-auth-secret', '--static-auth-secret', SECRET, '--realm', 'quillfell.example', '--fingerprint'],
      ...['--no-tls', '--no-dtls', '--no-cli', '--log-file', 'stdout', '--simple-log', '--pidfile', join(directory, 'turn.pid')],
      ...['--userdb', join(directory, 'turn.db')],
    ],
    { stdio: ['ignore', 'ignore', 'ignore'] },
  );
  const ended = once(child, 'exit');
  await Promise.race([
    eventually(async () => (await tryAddress(`stun:127.0.0.1:${port}`, undefined)).works),
    ended.then(() => Promise.reject(new Error('The TURN server has ended.'))),
  ]);
  return {
    port,
    stop: () => {
      child.kill();
      return ended;
    },
  };
}
