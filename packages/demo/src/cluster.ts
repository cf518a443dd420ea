/** The demo as a cluster: three nodes of MariaDB Galera, three instances, and HAProxy before them (see docs/cluster.md). */
import { type ChildProcess, spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { balancerSettings, GaleraCluster } from '@orchard/simulators';

export const INSTANCES = 3;

type StartPart = (module: string, env: Record<string, string>) => Promise<{ address: string; setupAddress: string | null }>;
export type Started = {
  address: string;
  setupAddress: string | null;
  databaseUrl: string;
  stopDatabase: () => Promise<void>;
  stopBalancer: () => void;
};

/**
 * Starts all of it, the balancer at `port` and the instances at the ports from `firstPort`.
 * @param settings of every instance; the first one takes the failure notices of mail
 */
export async function startCluster(
  startPart: StartPart,
  service: string,
  data: string,
  { port, firstPort }: { port: number; firstPort: number },
  settings: Record<string, string>,
): Promise<Started> {
  const cluster = await GaleraCluster.start(data, INSTANCES);
  const address = `http://127.0.0.1:${port}`;
  const secretKey = readSecret(join(data, 'cluster.key'));
  const { ORCHARD_BOUNCE_PORT: bounces, ...shared } = settings;
  const instances: { address: string; setupAddress: string | null }[] = [];
  for (let i = 0; i < INSTANCES; i++) {
    const own = join(data, `instance-${i + 1}`);
    mkdirSync(own, { recursive: true });
    instances.push(
      await startPart(service, {
        ...shared,
        ...(i === 0 && bounces ? { ORCHARD_BOUNCE_PORT: bounces } : {}),
        ORCHARD_PORT: String(firstPort + i),
        ORCHARD_DATA: own,
        ORCHARD_FILES: join(data, 'files'),
        ORCHARD_BACKUPS: join(data, 'backups'),
        // All prefer the same node: writes of the same rows wait for each other there, and do not conflict.
        ORCHARD_DATABASE_URL: cluster.url(),
        ORCHARD_SECRET_KEY: secretKey,
        ORCHARD_PUBLIC_URL: address,
        ORCHARD_DRAIN_SECONDS: '2',
      }),
    );
  }
  const balancer = startBalancer(
    data,
    port,
    instances.map((_, i) => `127.0.0.1:${firstPort + i}`),
  );
  // An instance that starts makes the address of the set-up anew.
  const last = instances.at(-1)?.setupAddress ?? null;
  const setupAddress = last && `${address}${new URL(last).pathname}${new URL(last).search}`;
  return {
    address,
    setupAddress,
    databaseUrl: `${cluster.url(0).split(',')[0]}/orchard`,
    stopDatabase: () => cluster.stop(),
    stopBalancer: () => void balancer.kill('SIGTERM'),
  };
}

function readSecret(file: string): string {
  if (!existsSync(file)) writeFileSync(file, randomBytes(32).toString('hex'), { mode: 0o600 });
  return readFileSync(file, 'utf8');
}

function startBalancer(data: string, port: number, hosts: readonly string[]): ChildProcess {
  const file = join(data, 'haproxy.cfg');
  writeFileSync(file, balancerSettings(`127.0.0.1:${port}`, hosts));
  return spawn('haproxy', ['-f', file], { stdio: ['ignore', 'ignore', 'ignore'], detached: true });
}
