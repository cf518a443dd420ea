/** One alert to its targets: members on their ways, whoever is on call, and webhooks. */
import type { AlertTarget } from '@orchard/contract';
import { onCallAt } from '@orchard/core';
import { roleReaches } from '../../platform/access/memberDirectory.js';
import { hashKey } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import { addLink } from './incidentStore.js';
import type { Parts } from './parts.js';
import type { AlertRules, StoredAlerts } from './settings.js';
import type { Webhooks } from './webhook.js';

export type AlertMessage = { title: string; body: string /** A path of the console. */; link: string; urgent: boolean; webhook: object };
/** To whom it went, or why not. */
export type Told = { to: string; key: string; ok: boolean; detail: string };

const LINK_MS = 7 * 86_400_000;

export class AlertSender {
  constructor(
    private readonly parts: Parts,
    private readonly rules: AlertRules,
    private readonly webhooks: Webhooks,
  ) {}

  /**
   * @param incidentId when members get an address that acknowledges it
   */
  async send(environment: Environment, targets: readonly AlertTarget[], message: AlertMessage, incidentId: string | null): Promise<Told[]> {
    const stored = await this.rules.stored(environment);
    const here = await this.parts.members.withRoleIn(environment.id);
    const members = new Map(here.map((one) => [one.id, one]));
    const told: Told[] = [];
    for (const id of new Set(targets.flatMap((target) => this.#membersOf(target, here, stored)))) {
      const member = members.get(id);
      // A right may have ended since the rule was made.
      if (!member) told.push({ to: this.#nameOf(id), key: id, ok: false, detail: 'has no role in this environment any more' });
      else told.push(await this.#tellMember(environment, member, message, incidentId));
    }
    for (const target of targets)
      if (target.to === 'webhook') told.push(await this.#tellWebhook(environment, stored, target.webhook, message));
    return told;
  }

  #nameOf(id: string): string {
    return this.parts.actors.document({ kind: 'member', id }).name ?? id;
  }

  #membersOf(target: AlertTarget, here: { id: string; role: string }[], { rotas }: StoredAlerts): string[] {
    switch (target.to) {
      case 'member':
        return [target.member];
      case 'role':
        return here.filter(({ role }) => role === target.role).map(({ id }) => id);
      case 'on-call': {
        const rota = rotas.find(({ name }) => name === target.rota);
        const member = rota ? onCallAt(rota, this.parts.now()).member : null;
        return member === null ? [] : [member];
      }
      case 'webhook':
        return [];
    }
  }

  async #tellMember(
    environment: Environment,
    { id, name, role }: { id: string; name: string; role: string },
    message: AlertMessage,
    incidentId: string | null,
  ): Promise<Told> {
    const mayAcknowledge = incidentId !== null && roleReaches(role as 'viewer', 'developer');
    const link = mayAcknowledge ? `/acknowledge?token=${await this.#link(environment, incidentId, id)}` : message.link;
    const { title, body, urgent } = message;
    const ways = await this.parts.memberMessages.tell(id, { title, body, link, urgent });
    return {
      to: name,
      key: id,
      ok: ways > 0,
      detail: ways > 0 ? `${ways} ${ways === 1 ? 'way' : 'ways'}` : 'has no verified way to be reached',
    };
  }

  async #link(environment: Environment, incidentId: string, memberId: string): Promise<string> {
    const token = `${environment.id}.${this.parts.random(15).toString('base64url')}`;
    await addLink(environment, { tokenHash: hashKey(token), incidentId, memberId, expiresAt: new Date(this.parts.now() + LINK_MS) });
    return token;
  }

  async #tellWebhook(environment: Environment, { webhooks }: StoredAlerts, name: string, message: AlertMessage): Promise<Told> {
    const webhook = webhooks.find((one) => one.name === name);
    const to = `webhook ${name}`;
    if (!webhook) return { to, key: to, ok: false, detail: 'is not there any more' };
    const outcome = await this.webhooks.send(webhook.url, name, this.rules.secretOf(environment, webhook), message.webhook);
    await this.rules.noteWebhook(environment, name, outcome);
    return { to, key: to, ok: outcome.failure === null, detail: outcome.failure ?? `answered ${outcome.status}` };
  }
}
