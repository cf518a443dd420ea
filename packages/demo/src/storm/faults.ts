/** What goes wrong, one thing after another, at random. */
import { setTimeout as sleep } from 'node:timers/promises';
import { UNDISTURBED } from '@orchard/simulators';
import type { StormParts } from './parts.js';

type Fault = { what: string; weight: number; needsDisk?: true; happens: (parts: StormParts, random: () => number) => Promise<void> };

const pick = <T>(from: readonly T[], random: () => number): T => from[Math.floor(random() * from.length)] as T;
const between = (random: () => number, least: number, most: number): number => least + random() * (most - least);

/** Up to an hour ahead or behind, in seconds. */
const anHourOff = (random: () => number): number => Math.round(between(random, 10, 3_600) * (random() < 0.5 ? -1 : 1));

const FAULTS: Fault[] = [
  {
    what: 'an instance is killed',
    weight: 4,
    happens: async ({ instances }, random) => {
      const instance = pick(instances, random);
      await instance.end('SIGKILL');
      await sleep(between(random, 500, 3_000));
      await instance.start();
    },
  },
  {
    what: 'an instance is stopped and started, as in an upgrade',
    weight: 2,
    happens: async ({ instances }, random) => {
      const instance = pick(instances, random);
      await instance.end('SIGTERM');
      await instance.start();
    },
  },
  {
    what: 'a database node is killed',
    weight: 3,
    happens: async ({ cluster }, random) => {
      const node = pick(cluster.nodes, random);
      await node.kill();
      await sleep(between(random, 500, 4_000));
      await node.start();
    },
  },
  {
    what: 'a database node hangs: the cluster is split 2:1',
    weight: 2,
    happens: async ({ cluster }, random) => {
      const node = pick(cluster.nodes, random);
      await node.freeze();
      await sleep(between(random, 4_000, 9_000));
      node.thaw();
      while (node.runs && !(await node.isReady())) await sleep(300);
    },
  },
  {
    what: 'all connections through the balancer end',
    weight: 2,
    happens: async (parts) => {
      await parts.killBalancer();
      parts.startBalancer();
    },
  },
  {
    what: 'the push networks drop connections',
    weight: 2,
    happens: async ({ simulators: { network, tarn } }) => {
      network.setFault({ mode: 'drop', count: 40 });
      tarn.faults.set({ mode: 'drop', count: 3 });
    },
  },
  {
    what: 'the network is slow, and loses packets',
    weight: 2,
    happens: async (parts, random) => {
      parts.changeConditions({ delayMs: Math.round(between(random, 2, 30)), lost: between(random, 1, 10) });
      await sleep(between(random, 3_000, 8_000));
      parts.changeConditions(UNDISTURBED);
    },
  },
  {
    what: 'the disk of the files is full',
    needsDisk: true,
    weight: 1,
    happens: async ({ disk }, random) => {
      disk.fill();
      await sleep(between(random, 2_000, 5_000));
      disk.free();
    },
  },
  {
    what: 'the disk of a database node is full',
    needsDisk: true,
    weight: 1,
    // It leaves the group, or ends, once it cannot store what the others have.
    happens: async ({ nodeDisk, cluster }, random) => {
      nodeDisk.fill();
      await sleep(between(random, 3_000, 8_000));
      nodeDisk.free();
      const node = cluster.nodes.at(-1);
      for (let waited = 0; node?.runs && !(await node.isReady()); waited++) {
        await sleep(300);
        // It has given up without ending: an operator starts it again.
        if (waited === 30) await node.kill();
      }
    },
  },
  {
    what: 'an instance starts on a machine whose clock is off',
    weight: 1,
    happens: async ({ instances }, random) => {
      const instance = pick(instances, random);
      await instance.end('SIGTERM');
      await instance.start(anHourOff(random));
      await sleep(between(random, 4_000, 8_000));
      await instance.end('SIGTERM');
      await instance.start();
    },
  },
  {
    what: 'a database node starts on a machine whose clock is off',
    weight: 1,
    happens: async ({ cluster }, random) => {
      const node = pick(cluster.nodes, random);
      await node.stop();
      await node.start(false, anHourOff(random));
      await sleep(between(random, 4_000, 8_000));
      await node.stop();
      await node.start();
    },
  },
  {
    what: 'no database node has a majority: 1:1:1',
    weight: 1,
    happens: async ({ cluster }, random) => {
      const [one, two] = random() < 0.5 ? [0, 1] : [1, 2];
      const nodes = [cluster.nodes[one as number], cluster.nodes[two as number]];
      await Promise.all(nodes.map((node) => node?.kill()));
      await sleep(between(random, 2_000, 6_000));
      // What is left has no majority by itself: an operator begins the cluster anew from the node that has seen most.
      for (const node of cluster.nodes) if (node.runs) await node.kill();
      await cluster.restart();
    },
  },
];

/** Faults until told to stop. @param only words of those that may happen; all without @returns how often each happened */
export async function storm(
  parts: StormParts,
  until: AbortSignal,
  random: () => number,
  tell: (what: string) => void,
  only = '',
): Promise<Map<string, number>> {
  const happened = new Map<string, number>();
  const possible = FAULTS.filter(({ what, needsDisk }) => what.includes(only) && (!needsDisk || parts.disk.isThere));
  const all = possible.flatMap((fault) => Array.from({ length: fault.weight }, () => fault));
  while (!until.aborted) {
    await sleep(between(random, 1_500, 5_000), undefined, { signal: until }).catch(() => undefined);
    if (until.aborted) break;
    const fault = pick(all, random);
    tell(fault.what);
    // A node that is ended while it starts is brought back below.
    await fault.happens(parts, random).catch((error) => tell((error as Error).message));
    if (parts.cluster.nodes.some(({ runs }) => !runs)) {
      tell('a database node has ended by itself');
      await parts.startNodes();
    }
    happened.set(fault.what, (happened.get(fault.what) ?? 0) + 1);
  }
  return happened;
}
