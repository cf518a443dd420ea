/**
 * A MariaDB Galera cluster of one's own, from Debian's packages (mariadb-server, galera-4, rsync): several nodes on the loopback
 * address, each of which can be killed, paused and started again. Its settings are those of docs/cluster.md.
 */
import { type ChildProcess, execFile, execFileSync, spawn } from 'node:child_process';
import { createHash, randomBytes } from 'node:crypto';
import { chmodSync, existsSync, mkdirSync, openSync, readFileSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { promisify } from 'node:util';
import { freeze, thaw } from './freezing.js';
import { freePorts } from './freePorts.js';
import { limitMemory } from './memoryLimit.js';
import { turnedClock } from './turnedClock.js';

const run = promisify(execFile);
const PROVIDERS = ['/usr/lib/galera/libgalera_smm.so', '/usr/lib64/galera-4/libgalera_smm.so'];
const READY_MS = 90_000;
const USER = 'orchard';

/** Ports of one node: of SQL, of the group, of incremental and of whole state transfers. */
type Ports = { sql: number; group: number; increments: number; state: number };
type Access = { password: string; nodes: Ports[] };

export class GaleraNode {
  #child: ChildProcess | null = null;

  constructor(
    private readonly cluster: GaleraCluster,
    readonly number: number,
    readonly ports: Ports,
  ) {}

  get name(): string {
    return `node${this.number + 1}`;
  }

  get data(): string {
    return join(this.cluster.home, this.name);
  }

  /** `host:port` of its SQL. */
  get host(): string {
    return `127.0.0.1:${this.ports.sql}`;
  }

  get runs(): boolean {
    return this.#child !== null && this.#child.exitCode === null && this.#child.signalCode === null;
  }

  pid(): number | undefined {
    return this.#child?.pid;
  }

  /**
   * @param isFirst whether it begins the cluster anew @param aheadS how far its machine's clock is ahead
   * @returns once it takes statements
   */
  async start(isFirst = false, aheadS = 0): Promise<void> {
    const log = openSync(join(this.cluster.home, `${this.name}.log`), 'a');
    const env = { ...process.env, ...turnedClock(aheadS) };
    const child = spawn('mariadbd', this.#options(isFirst), { stdio: ['ignore', log, log], detached: true, env });
    this.#child = child;
    limitMemory(child);
    const until = performance.now() + READY_MS;
    while (!(await this.isReady())) {
      if (!this.runs) throw new Error(`${this.name} has ended; see ${join(this.cluster.home, `${this.name}.log`)}`);
      if (performance.now() > until) throw new Error(`${this.name} did not join the cluster within ${READY_MS / 1000} s`);
      await sleep(200);
    }
  }

  #options(isFirst: boolean): string[] {
    const { group, increments, state, sql } = this.ports;
    const others = this.cluster.nodes.map((node) => `127.0.0.1:${node.ports.group}`).join(',');
    return [
      '--no-defaults',
      `--datadir=${this.data}`,
      `--port=${sql}`,
      `--socket=${join(this.cluster.home, `${this.name}.sock`)}`,
      `--pid-file=${join(this.cluster.home, `${this.name}.pid`)}`,
      `--init-file=${this.cluster.init}`,
      '--bind-address=127.0.0.1',
      '--skip-name-resolve',
      '--character-set-server=utf8mb4',
      '--collation-server=utf8mb4_bin',
      '--innodb-buffer-pool-size=128M',
      // A node that dies gets what it lost from the others.
      '--innodb-flush-log-at-trx-commit=2',
      '--innodb-autoinc-lock-mode=2',
      '--binlog-format=ROW',
      '--max-connections=200',
      '--max-allowed-packet=64M',
      '--default-time-zone=+00:00',
      '--performance-schema=OFF',
      '--local-infile=ON',
      '--wsrep-on=ON',
      `--wsrep-provider=${provider()}`,
      '--wsrep-cluster-name=orchard',
      `--wsrep-cluster-address=gcomm://${others}`,
      `--wsrep-node-name=${this.name}`,
      `--wsrep-node-address=127.0.0.1:${group}`,
      '--wsrep-sst-method=rsync',
      `--wsrep-sst-receive-address=127.0.0.1:${state}`,
      '--wsrep-slave-threads=2',
      '--wsrep-retry-autocommit=4',
      `--wsrep-provider-options=gmcast.listen_addr=tcp://127.0.0.1:${group};ist.recv_addr=127.0.0.1:${increments};gcache.size=128M;evs.suspect_timeout=PT3S;evs.inactive_timeout=PT6S;evs.keepalive_period=PT0.5S`,
      ...(isFirst ? ['--wsrep-new-cluster'] : []),
      ...asUser(),
    ];
  }

  /** How far it has come, while it does not run; -1 where it cannot say, as after a state transfer that broke off. */
  recoveredPosition(): number {
    const state = join(this.data, 'grastate.dat');
    const noted = existsSync(state) ? Number(/seqno:\s+(-?\d+)/.exec(readFileSync(state, 'utf8'))?.[1] ?? -1) : -1;
    if (noted >= 0) return noted;
    // Killed: its position is in the storage engine.
    const log = `${this.data}.recovered`;
    try {
      execFileSync('mariadbd', [...this.#options(false), '--wsrep-recover', `--log-error=${log}`], { stdio: 'ignore' });
      return Number([...readFileSync(log, 'utf8').matchAll(/Recovered position:?\s+[0-9a-f-]+:(-?\d+)/g)].at(-1)?.[1] ?? -1);
    } catch {
      return -1;
    } finally {
      rmSync(log, { force: true });
    }
  }

  /** Whether it takes statements of a cluster that has a majority. */
  async isReady(): Promise<boolean> {
    const state = await this.status('wsrep_ready', 'wsrep_local_state').catch(() => null);
    return state?.wsrep_ready === 'ON' && state.wsrep_local_state === '4';
  }

  /** Status variables by name. @throws Error while it does not answer */
  async status(...names: string[]): Promise<Record<string, string>> {
    const sql = `SHOW GLOBAL STATUS WHERE Variable_name IN (${names.map((name) => `'${name}'`).join(',')})`;
    const { stdout } = await run(
      'mariadb',
      ['--no-defaults', '-h127.0.0.1', `-P${this.ports.sql}`, `-u${USER}`, '--connect-timeout=2', '-N', '-B', '-e', sql],
      { env: { ...process.env, MYSQL_PWD: this.cluster.password }, timeout: 4_000 },
    );
    return Object.fromEntries(stdout.split('\n').flatMap((line) => (line.includes('\t') ? [line.split('\t') as [string, string]] : [])));
  }

  #signal(signal: NodeJS.Signals): Promise<void> {
    const child = this.#child;
    if (!child || !this.runs) return Promise.resolve();
    const ended = new Promise<void>((resolve) => child.once('exit', () => resolve()));
    child.kill(signal);
    return ended;
  }

  /** As a machine that loses its power. */
  kill(): Promise<void> {
    return this.#signal('SIGKILL');
  }

  stop(): Promise<void> {
    return this.#signal('SIGTERM');
  }

  /** As a machine that hangs, or a network that is cut: it answers nothing, and the others go on without it. */
  async freeze(): Promise<void> {
    if (this.#child) await freeze(this.#child);
  }

  thaw(): void {
    if (this.#child) thaw(this.#child);
  }
}

export class GaleraCluster {
  readonly nodes: GaleraNode[];

  private constructor(
    readonly home: string,
    readonly password: string,
    ports: Ports[],
  ) {
    this.nodes = ports.map((own, i) => new GaleraNode(this, i, own));
  }

  get init(): string {
    return join(this.home, 'init.sql');
  }

  /**
   * For ORCHARD_DATABASE_URL.
   * @param first the node that is preferred @param hosts by which the nodes are reached, where that is not their own
   */
  url(first = 0, hosts: readonly string[] = this.nodes.map(({ host }) => host)): string {
    const order = [...hosts.slice(first), ...hosts.slice(0, first)];
    return `mariadb://${USER}:${this.password}@${order.join(',')}/orchard`;
  }

  /**
   * Starts all nodes; the first time it makes their data. What a killed program left running is ended.
   * @param directory where it is noted; its data stands where the package's user may write
   * @param place is given the directory of each node before there is anything in it, to put it on a disk of its own
   */
  static async start(directory: string, count = 3, place?: (data: string, number: number) => void): Promise<GaleraCluster> {
    const home = homeOf(directory);
    endLeftBehind(home, count);
    mkdirSync(home, { recursive: true, mode: 0o755 });
    const access = await readAccess(join(home, 'cluster.json'), count);
    const cluster = new GaleraCluster(home, access.password, access.nodes);
    await cluster.#prepare(place);
    await cluster.restart();
    return cluster;
  }

  /** Begins the cluster anew, from the node that has seen most, when none runs. */
  async restart(): Promise<void> {
    const [first, ...rest] = this.#byProgress();
    await first?.start(true);
    // One after another: each gets the whole state from one that is there.
    for (const node of rest) await node.start();
  }

  /** Where the data of each node stand. */
  static placesOf(directory: string, count = 3): string[] {
    return Array.from({ length: count }, (_, i) => join(homeOf(directory), `node${i + 1}`));
  }

  /** Ends what a killed program left running, and deletes its data. */
  static forget(directory: string, count = 3): void {
    endLeftBehind(homeOf(directory), count);
    rmSync(homeOf(directory), { recursive: true, force: true });
  }

  async #prepare(place?: (data: string, number: number) => void): Promise<void> {
    const statements = [
      `CREATE OR REPLACE USER '${USER}'@'127.0.0.1' IDENTIFIED BY '${this.password}'`,
      `GRANT ALL ON *.* TO '${USER}'@'127.0.0.1'`,
    ];
    writeFileSync(this.init, `${statements.join(';\n')};\n`);
    chmodSync(this.init, 0o644);
    for (const { data, number } of this.nodes) {
      if (existsSync(join(data, 'mysql'))) continue;
      mkdirSync(data, { recursive: true });
      place?.(data, number);
      await run('mariadb-install-db', [
        '--no-defaults',
        `--datadir=${data}`,
        '--auth-root-authentication-method=normal',
        '--skip-test-db',
        ...asUser(),
      ]);
    }
    if (asUser().length > 0) execFileSync('chown', ['-R', 'mysql', this.home]);
  }

  /** The one that has seen most first: a cluster in which none runs begins from it. */
  #byProgress(): GaleraNode[] {
    const seen = new Map(this.nodes.map((node) => [node, node.recoveredPosition()]));
    const order = [...this.nodes].sort((a, b) => (seen.get(b) ?? 0) - (seen.get(a) ?? 0));
    const state = join(order[0]?.data ?? '', 'grastate.dat');
    if (existsSync(state)) writeFileSync(state, readFileSync(state, 'utf8').replace(/safe_to_bootstrap: 0/, 'safe_to_bootstrap: 1'));
    return order;
  }

  async stop(): Promise<void> {
    for (const node of this.nodes) node.thaw();
    for (const node of this.nodes.toReversed()) await node.stop();
  }

  /** Deletes its data, once it has stopped. */
  forget(): void {
    rmSync(this.home, { recursive: true, force: true });
  }
}

function provider(): string {
  const found = PROVIDERS.find((path) => existsSync(path));
  if (!found) throw new Error('Galera is not installed. Install the Debian packages `mariadb-server`, `galera-4` and `rsync`.');
  return found;
}

/** It runs as the user of Debian's package where this one is root: its state transfers refuse root. */
const asUser = (): string[] => (process.getuid?.() === 0 ? ['--user=mysql'] : []);

/** The package's user may not be able to reach a directory of root's. */
function homeOf(directory: string): string {
  if (process.getuid?.() !== 0) return join(directory, 'galera');
  const place = directory.startsWith('/dev/shm') ? '/dev/shm' : '/var/tmp';
  return join(place, `orchard-galera-${createHash('sha256').update(directory).digest('hex').slice(0, 12)}`);
}

function endLeftBehind(home: string, count: number): void {
  for (let i = 1; i <= count; i++) {
    const note = join(home, `node${i}.pid`);
    if (!existsSync(note)) continue;
    const pid = Number(readFileSync(note, 'utf8'));
    const runs = () => existsSync(`/proc/${pid}`) && readFileSync(`/proc/${pid}/cmdline`, 'utf8').includes(home);
    if (runs()) process.kill(pid, 'SIGKILL');
    for (let tries = 0; runs() && tries < 50; tries++) Atomics.wait(new Int32Array(new SharedArrayBuffer(4)), 0, 0, 100);
  }
}

async function readAccess(path: string, count: number): Promise<Access> {
  if (existsSync(path)) return JSON.parse(readFileSync(path, 'utf8')) as Access;
  const ports = await freePorts(count * 4);
  const nodes = Array.from({ length: count }, (_, i) => {
    const [sql, group, increments, state] = ports.slice(i * 4, i * 4 + 4) as [number, number, number, number];
    return { sql, group, increments, state };
  });
  const access = { password: randomBytes(12).toString('hex'), nodes };
  writeFileSync(path, JSON.stringify(access), { mode: 0o600 });
  return access;
}
