/**
 * Gateways that lead into a private network. A check could reveal which ports are open there, so for addresses that the
 * settings do not list every failure has the same text and takes the same time.
 */
import { lookup } from 'node:dns/promises';
import { setTimeout as sleep } from 'node:timers/promises';
import type { JsonObject } from '@orchard/core';
import ipaddr from 'ipaddr.js';
import type { CheckStep, OutgoingMessage, Outcome, Sender } from './sender.js';

/** How long every failing check takes. */
const CHECK_MS = 5_000;

const WORDS =
  'It cannot be used. It resolves to a private address; details are shown only when ORCHARD_PUSH_ORIGINS lists it, such as smtp://mail.internal:587.';

/** Where a gateway leads, as settings name it: `https://host`, `smpp://host:port`, `smtp://host:port`. */
function targetOf(kind: string, settings: JsonObject): { origin: string; host: string } | null {
  if (typeof settings.address === 'string') {
    const { origin, hostname } = new URL(settings.address);
    return { origin, host: hostname };
  }
  return typeof settings.host === 'string' ? { origin: `${kind}://${settings.host}:${settings.port}`, host: settings.host } : null;
}

export const originOf = (kind: string, settings: JsonObject): string | null => targetOf(kind, settings)?.origin ?? null;

/** Whether a gateway resolves to a private address that the settings do not name. */
export async function isUnnamedPrivate(kind: string, settings: JsonObject, named: readonly string[]): Promise<boolean> {
  const target = targetOf(kind, settings);
  if (!target || named.includes(target.origin)) return false;
  const found = await lookup(target.host, { all: true }).catch(() => []);
  return found.some(({ address }) => ipaddr.process(address).range() !== 'unicast');
}

/** The same sender, without details of connection failures. */
export class DiscreetSender implements Sender {
  readonly atOnce: number;

  constructor(private readonly sender: Sender) {
    this.atOnce = sender.atOnce;
  }

  async send(message: OutgoingMessage): Promise<Outcome> {
    const outcome = await this.sender.send(message);
    // A response of the network itself has a status.
    return outcome.kind === 'later' && outcome.answer === null ? { kind: 'later', answer: null, reason: WORDS, afterMs: null } : outcome;
  }

  async check(): Promise<CheckStep[]> {
    const over = sleep(CHECK_MS, null, { ref: false });
    const steps = await Promise.race([this.sender.check().catch(() => null), over]);
    if (steps?.every(({ ok }) => ok)) return steps;
    await over;
    return [{ what: 'connection', ok: false, text: WORDS }];
  }

  sizeOf(message: OutgoingMessage): { bytes: number; mostBytes: number } | null {
    return this.sender.sizeOf(message);
  }

  close(): void {
    this.sender.close();
  }
}
