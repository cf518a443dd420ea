/** A stretch of network between two programs, on which packets can be slow and get lost. */
import { once } from 'node:events';
import { connect, createServer, type Server, type Socket } from 'node:net';
import { setTimeout as sleep } from 'node:timers/promises';

/** `lost`: of a thousand packets, how many. A stream waits until one that was lost has been sent again (RFC 6298 section 2.4). */
export type Conditions = { delayMs: number; lost: number };
const SENT_AGAIN_MS = 1_000;
export const UNDISTURBED: Conditions = { delayMs: 0, lost: 0 };

export class Link {
  #conditions = UNDISTURBED;
  readonly #sockets = new Set<Socket>();

  private constructor(private readonly server: Server) {}

  /** @param to `host:port` of the program behind it */
  static async open(to: string): Promise<Link> {
    const { hostname, port } = new URL(`tcp://${to}`);
    const link: Link = new Link(createServer((near) => link.#join(near, connect(Number(port), hostname))));
    await new Promise<void>((resolve) => link.server.listen(0, '127.0.0.1', resolve));
    return link;
  }

  /** `host:port` of this side. */
  get address(): string {
    return `127.0.0.1:${(this.server.address() as { port: number }).port}`;
  }

  set conditions(conditions: Conditions) {
    this.#conditions = conditions;
  }

  close(): void {
    this.server.close();
    for (const socket of this.#sockets) socket.destroy();
  }

  #join(near: Socket, far: Socket): void {
    for (const [one, other] of [
      [near, far],
      [far, near],
    ] as const) {
      this.#sockets.add(one);
      one.setNoDelay(true);
      one.on('error', () => other.destroy());
      one.once('close', () => {
        this.#sockets.delete(one);
        other.destroy();
      });
      void this.#pour(one, other);
    }
  }

  async #pour(from: Socket, to: Socket): Promise<void> {
    try {
      for await (const chunk of from) {
        const { delayMs, lost } = this.#conditions;
        const wait = delayMs + (Math.random() * 1_000 < lost ? SENT_AGAIN_MS : 0);
        if (wait > 0) await sleep(wait);
        if (!to.write(chunk)) await once(to, 'drain');
      }
      to.end();
    } catch {
      to.destroy();
    }
  }
}
