/** Writes units to one connection; all writes of one turn of the event loop go out together. */
import type { Socket } from 'node:net';
import { encodePdu, type Fields, type Pdu } from '@orchard/core/smpp';

const NO_FIELDS: Fields = {};

export class PduWriter {
  #units: Buffer[] = [];

  constructor(private readonly socket: Socket) {}

  /** @throws {SmppError} when a field is too long; the unit is not written then */
  write(pdu: Pdu): void {
    const unit = encodePdu(pdu);
    if (this.#units.length === 0) setImmediate(() => this.flush());
    this.#units.push(unit);
  }

  /** The response to a unit, of the same sequence number (section 3.2). */
  answer({ command, sequence }: Pdu, status: number, fields = NO_FIELDS): void {
    this.write({ command, response: true, status, sequence, fields });
  }

  /** Sends what was written so far; discards it if the connection has ended. */
  flush(): void {
    const units = this.#units;
    this.#units = [];
    if (units.length > 0 && !this.socket.destroyed) this.socket.write(Buffer.concat(units));
  }
}
