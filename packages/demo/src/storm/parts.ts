/** What the storm blows through: a cluster, three instances, a balancer and the networks, each of which can be killed. */
import { type ChildProcess, fork, spawn } from 'node:child_process';
import { randomBytes } from 'node:crypto';
import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { fileURLToPath } from 'node:url';
import {
  balancerSettings,
  UNDISTURBED,
  freePorts,
  GaleraCluster,
  type Simulators,
  SmallDisk,
  startSimulators,
  turnedClock,
  type Conditions,
} from '@orchard/simulators';
import { INSTANCES } from '../cluster.js';
import { Network } from './network.js';

const SERVICE = fileURLToPath(import.meta.resolve('@orchard/service')).replace(/index\.js$/, 'main.js');

/** One instance as a process. */
export class Instance {
  #child: ChildProcess | null = null;
  setupAddress: string | null = null;

  constructor(
    readonly number: number,
    private readonly settings: Record<string, string>,
  ) {}

  get runs(): boolean {
    return this.#child !== null && this.#child.exitCode === null && this.#child.signalCode === null;
  }

  /** Tries again until its database is there. @param aheadS how far its machine's clock is ahead */
  async start(aheadS = 0): Promise<void> {
    while (!(await this.#startOnce(aheadS))) await sleep(300);
  }

  #startOnce(aheadS: number): Promise<boolean> {
    const child = fork(SERVICE, [], {
      env: { ...process.env, ...this.settings, ...turnedClock(aheadS) },
      stdio: ['ignore', 'ignore', 'ignore', 'ipc'],
    });
    this.#child = child;
    return new Promise((resolve) => {
      child.once('message', (said) => {
        this.setupAddress = (said as { setupAddress: string | null }).setupAddress;
        resolve(true);
      });
      child.once('exit', () => resolve(false));
    });
  }

  end(signal: 'SIGKILL' | 'SIGTERM'): Promise<void> {
    const child = this.#child;
    if (!child || !this.runs) return Promise.resolve();
    const ended = new Promise<void>((resolve) => child.once('exit', () => resolve()));
    child.kill(signal);
    return ended;
  }
}

export class StormParts {
  #balancer: ChildProcess | null = null;

  private constructor(
    readonly cluster: GaleraCluster,
    readonly simulators: Simulators,
    readonly instances: Instance[],
    readonly address: string,
    readonly disk: SmallDisk,
    readonly nodeDisk: SmallDisk,
    private readonly network: Network,
    private readonly balancerFile: string,
  ) {}

  /** Removes what a storm that was killed has left. */
  static forget(data: string): void {
    SmallDisk.forget(join(data, 'files'));
    for (const node of GaleraCluster.placesOf(data)) SmallDisk.forget(node);
    rmSync(data, { recursive: true, force: true });
    GaleraCluster.forget(data);
  }

  static async start(data: string): Promise<StormParts> {
    mkdirSync(data, { recursive: true });
    const nodeDisks: SmallDisk[] = [];
    const cluster = await GaleraCluster.start(data, INSTANCES, (place, node) => {
      if (node === INSTANCES - 1) nodeDisks.push(new SmallDisk(place, '4g'));
    });
    const simulators = await startSimulators({ port: 0 });
    const [port = 0, ...ports] = await freePorts(INSTANCES + 1);
    const address = `http://127.0.0.1:${port}`;
    const disk = new SmallDisk(join(data, 'files'), '4g');
    // From the balancer to each instance, and from the last instance to each node of the database.
    const behind = ports.map((own) => `127.0.0.1:${own}`);
    const network = await Network.open([...behind, ...cluster.nodes.map(({ host }) => host)]);
    const [toInstances, toNodes] = [network.addresses.slice(0, INSTANCES), network.addresses.slice(INSTANCES)];
    const shared = {
      ORCHARD_FILES: join(data, 'files'),
      ORCHARD_BACKUPS: join(data, 'backups'),
      ORCHARD_SECRET_KEY: randomBytes(32).toString('hex'),
      ORCHARD_PUBLIC_URL: address,
      ORCHARD_PUSH_ORIGINS: simulators.address,
      ORCHARD_DRAIN_SECONDS: '2',
      ORCHARD_LOG_LEVEL: 'fatal',
      ORCHARD_KEY_RATE: '10000000',
      ORCHARD_ADDRESS_RATE: '10000000',
      ORCHARD_SIGN_IN_RATE: '10000',
    };
    const instances = ports.map((own, i) => {
      const directory = join(data, `instance-${i + 1}`);
      mkdirSync(directory, { recursive: true });
      const url = cluster.url(i, i === INSTANCES - 1 ? toNodes : undefined);
      const settings = { ...shared, ORCHARD_PORT: String(own), ORCHARD_DATA: directory, ORCHARD_DATABASE_URL: url };
      return new Instance(i + 1, settings);
    });
    const file = join(data, 'haproxy.cfg');
    writeFileSync(file, balancerSettings(`127.0.0.1:${port}`, toInstances));
    const parts = new StormParts(cluster, simulators, instances, address, disk, nodeDisks[0] as SmallDisk, network, file);
    for (const instance of instances) await instance.start();
    parts.startBalancer();
    await parts.ready();
    return parts;
  }

  startBalancer(): void {
    this.#balancer = spawn('haproxy', ['-f', this.balancerFile], { stdio: 'ignore', detached: true });
  }

  /** Of the network from the balancer to the instances, and of the last instance's to the database. */
  changeConditions(conditions: Conditions): void {
    this.network.change([...this.network.addresses.keys()], conditions);
  }

  /** Every connection through it ends. */
  async killBalancer(): Promise<void> {
    const balancer = this.#balancer;
    if (!balancer) return;
    const ended = new Promise<void>((resolve) => balancer.once('exit', () => resolve()));
    balancer.kill('SIGKILL');
    await ended;
  }

  /** Until calls are answered. */
  async ready(): Promise<void> {
    for (;;) {
      const answer = await fetch(`${this.address}/readyz`, { signal: AbortSignal.timeout(3_000) }).catch(() => null);
      if (answer?.status === 200) return;
      await sleep(200);
    }
  }

  /** Those that are down. */
  async startNodes(): Promise<void> {
    if (!this.cluster.nodes.some(({ runs }) => runs)) return this.cluster.restart();
    for (const node of this.cluster.nodes) if (!node.runs) await node.start();
  }

  /** Brings back whatever is down. */
  async heal(): Promise<void> {
    this.changeConditions(UNDISTURBED);
    this.disk.free();
    this.nodeDisk.free();
    for (const node of this.cluster.nodes) node.thaw();
    await this.startNodes();
    for (const instance of this.instances) if (!instance.runs) await instance.start();
    await this.ready();
  }

  async stop(): Promise<void> {
    await this.killBalancer();
    await Promise.all(this.instances.map((instance) => instance.end('SIGTERM')));
    await this.cluster.stop();
    this.nodeDisk.remove();
    this.cluster.forget();
    await this.simulators.stop();
    this.network.close();
    this.disk.remove();
  }
}
