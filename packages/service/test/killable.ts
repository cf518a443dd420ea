/** A service as a process of its own with a database of its own: to kill at any point, and to start again at the same address. */
import { type ChildProcess, fork } from 'node:child_process';
import { once } from 'node:events';
import { fileURLToPath } from 'node:url';
import { createHttpClient, type HttpClient, operations } from '@orchard/contract';
import { scratchDirectory } from './scratch.js';
import { OWNER } from './support.js';

const MAIN = fileURLToPath(new URL('../dist/main.js', import.meta.url));

export type Killable = {
  address: string;
  owner: HttpClient;
  /** Of the owner's calls. */
  headers: () => Record<string, string>;
  /** Its data directory. */
  directory: string;
  /** Kills it as a power cut does. */
  kill: () => Promise<unknown>;
  restart: () => Promise<unknown>;
  stop: () => Promise<unknown>;
};

/** Starts one with its first owner. @param settings environment variables besides its own */
export async function startKillable(name: string, settings: Record<string, string> = {}): Promise<Killable> {
  const directory = scratchDirectory(name);
  let child: ChildProcess;
  const start = async (port: string) => {
    child = fork(MAIN, [], {
      env: { ...process.env, ...settings, ORCHARD_PORT: port, ORCHARD_DATA: directory, ORCHARD_LOG_LEVEL: 'fatal' },
      stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
    });
    const [said] = await once(child, 'message');
    return said as { address: string; setupAddress: string };
  };
  const end = (signal: NodeJS.Signals) => {
    const ended = once(child, 'exit');
    child.kill(signal);
    return ended;
  };
  const { address, setupAddress } = await start('0');
  const anyone = createHttpClient({ address });
  await anyone.call(operations.members.setUp, {
    body: { token: new URL(setupAddress).searchParams.get('token') as string, ...OWNER },
  });
  const { token } = await anyone.call(operations.members.signIn, { body: { email: OWNER.email, password: OWNER.password, as: 'token' } });
  const headers = () => ({ authorization: `Bearer ${token}` });
  return {
    address,
    directory,
    headers,
    owner: createHttpClient({ address, headers }),
    kill: () => end('SIGKILL'),
    restart: () => start(new URL(address).port),
    stop: () => end('SIGTERM'),
  };
}
