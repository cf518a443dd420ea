/** Writes units to a connection; what is written in one turn of the event loop goes out as one. */
import { encodePdu, type Fields, type Pdu } from './pdu.js';

const NONE: Fields = {};

export class PduWriter {
  #units: Buffer[] = [];

  /** @param out takes octets of whole units */
  constructor(private readonly out: (octets: Buffer) => void) {}

  /** @throws {SmppError} when a field is too long; nothing of the unit is written then */
  write(pdu: Pdu): void {
    const unit = encodePdu(pdu);
    if (this.#units.length === 0) setImmediate(() => this.flush());
    this.#units.push(unit);
  }

  /** The response to a unit (section 3.2: of the same sequence number). */
  answer({ command, sequence }: Pdu, status: number, fields: Fields = NONE): void {
    this.write({ command, response: true, status, sequence, fields });
  }

  /** Sends what was written so far. */
  flush(): void {
    const units = this.#units;
    if (units.length === 0) return;
    this.#units = [];
    this.out(units.length === 1 ? (units[0] as Buffer) : Buffer.concat(units));
  }

  /** Forgets what has not gone out: the connection is over. */
  drop(): void {
    this.#units = [];
  }
}
