/** What packets go over in a storm: links whose conditions change. */
import { type ChildProcess, fork } from 'node:child_process';
import { fileURLToPath } from 'node:url';
import type { Conditions } from '@orchard/simulators';
import type { LinkConditions } from './links.js';

const PROGRAM = fileURLToPath(new URL('./links.js', import.meta.url));

export class Network {
  private constructor(
    private readonly program: ChildProcess,
    /** `host:port` of this side of each link. */
    readonly addresses: string[],
  ) {}

  /** @param targets `host:port` where each link leads */
  static async open(targets: readonly string[]): Promise<Network> {
    const program = fork(PROGRAM, [...targets], { stdio: ['ignore', 'ignore', 'inherit', 'ipc'] });
    const addresses = await new Promise<string[]>((resolve, reject) => {
      program.once('message', (said) => resolve(said as string[]));
      program.once('exit', () => reject(new Error('The links could not be opened.')));
    });
    return new Network(program, addresses);
  }

  change(links: readonly number[], conditions: Conditions): void {
    for (const link of links) this.program.send({ link, conditions } satisfies LinkConditions);
  }

  close(): void {
    this.program.disconnect();
  }
}
