/** Who is told of what: rules, rotas and webhooks of an environment. */
import { type AlertRule, type AlertSettings, Problem, type RotaDocument } from '@orchard/contract';
import { onCallAt } from '@orchard/core';
import { seal, unseal } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import { Settings } from '../../platform/settings/settingStore.js';
import type { Parts } from './parts.js';

type StoredWebhook = AlertSettings['webhooks'][number] & { sealed: string };
export type StoredAlerts = { rules: AlertRule[]; rotas: RotaDocument[]; webhooks: StoredWebhook[] };

/** In `live` the maintainers are told when it fails, and then the owners; where people develop, nobody is woken. */
const defaults = ({ name }: Pick<Environment, 'name'>): StoredAlerts => ({
  rules:
    name === 'dev'
      ? []
      : [
          {
            name: 'failing',
            on: 'condition',
            from: 'failing',
            steps: [[{ to: 'role', role: 'maintainer' }], [{ to: 'role', role: 'owner' }]],
            nextAfterMin: 15,
            remindAfterMin: 30,
          },
        ],
  rotas: [],
  webhooks: [],
});

const MOST_WEBHOOKS = 20;

export class AlertRules {
  readonly #settings = new Settings<StoredAlerts>('alerts', defaults);

  constructor(private readonly parts: Parts) {}

  stored(environment: Environment): Promise<StoredAlerts> {
    return this.#settings.read(environment);
  }

  /** With who is on call now, and without secrets. */
  async read(environment: Environment): Promise<AlertSettings> {
    const { rules, rotas, webhooks } = await this.stored(environment);
    const person = (id: string | null) =>
      id === null ? null : { id, name: this.parts.actors.document({ kind: 'member', id }).name ?? id };
    return {
      rules,
      rotas,
      webhooks: webhooks.map(({ sealed: _, ...shown }) => shown),
      onCall: rotas.map((rota) => {
        const { member, replaces, until } = onCallAt(rota, this.parts.now());
        return { rota: rota.name, member: person(member), replaces: person(replaces), until: new Date(until).toISOString() };
      }),
    };
  }

  /** @throws {Problem} invalid-input */
  async replace(environment: Environment, { rules, rotas }: Pick<StoredAlerts, 'rules' | 'rotas'>): Promise<AlertSettings> {
    this.#settings.forget(environment);
    const before = await this.stored(environment);
    await this.#demandKnown(environment, rules, rotas, before.webhooks);
    await this.#settings.write(environment, { ...before, rules, rotas }, new Date(this.parts.now()));
    return this.read(environment);
  }

  /** Whoever a rule or a rota names must be there. */
  async #demandKnown(environment: Environment, rules: AlertRule[], rotas: RotaDocument[], webhooks: StoredWebhook[]): Promise<void> {
    const members = new Set((await this.parts.members.withRoleIn(environment.id)).map(({ id }) => id));
    const fields: NonNullable<Problem['extras']['fields']> = [];
    const demand = (path: string, is: boolean, problem: string, expected: string) => void (is || fields.push({ path, problem, expected }));
    const aMember = 'the id of a member with a role in this environment';
    for (const [i, { name, members: own, replacements }] of rotas.entries())
      for (const member of [...own, ...replacements.map((one) => one.member)])
        demand(`body.rotas.${i}`, members.has(member), `The rota \`${name}\` names ${member}, who has no role here.`, aMember);
    for (const [i, { name, steps }] of rules.entries())
      for (const target of steps.flat()) {
        const path = `body.rules.${i}.steps`;
        if (target.to === 'member')
          demand(path, members.has(target.member), `The rule \`${name}\` names ${target.member}, who has no role here.`, aMember);
        if (target.to === 'on-call')
          demand(
            path,
            rotas.some((one) => one.name === target.rota),
            `There is no rota \`${target.rota}\`.`,
            'the name of a rota in this call',
          );
        if (target.to === 'webhook')
          demand(
            path,
            webhooks.some((one) => one.name === target.webhook),
            `There is no webhook \`${target.webhook}\`.`,
            'the name of a webhook',
          );
      }
    const [first] = fields;
    if (first) throw new Problem('invalid-input', `Nothing was changed. ${first.problem}`, { fields });
  }

  /** @throws {Problem} already-exists, invalid-input */
  async addWebhook(environment: Environment, name: string, url: string): Promise<AlertSettings['webhooks'][number] & { secret: string }> {
    this.#settings.forget(environment);
    const before = await this.stored(environment);
    if (before.webhooks.some((one) => one.name === name)) throw new Problem('already-exists', `There is a webhook \`${name}\` already.`);
    if (before.webhooks.length >= MOST_WEBHOOKS)
      throw new Problem('invalid-input', `There are ${MOST_WEBHOOKS} webhooks already. Remove one first.`, {
        fields: [{ path: 'body.name', problem: 'There are too many webhooks.', expected: `at most ${MOST_WEBHOOKS}` }],
      });
    const secret = this.parts.random(32).toString('base64url');
    const shown = { name, url, lastStatus: null, lastFailure: null, lastAt: null };
    const sealed = seal(environment.keys.data, contextOf(environment, name), secret);
    await this.#settings.write(
      environment,
      { ...before, webhooks: [...before.webhooks, { ...shown, sealed }] },
      new Date(this.parts.now()),
    );
    return { ...shown, secret };
  }

  /** @throws {Problem} not-found; invalid-input while a rule names it */
  async removeWebhook(environment: Environment, name: string): Promise<void> {
    this.#settings.forget(environment);
    const before = await this.stored(environment);
    const rule = before.rules.find(({ steps }) => steps.flat().some((target) => target.to === 'webhook' && target.webhook === name));
    if (rule)
      throw new Problem('invalid-input', `The rule \`${rule.name}\` still tells the webhook \`${name}\`. Change the rule first.`, {
        fields: [{ path: 'params.webhook', problem: 'A rule still tells it.', expected: 'a webhook that no rule tells' }],
      });
    const webhooks = before.webhooks.filter((one) => one.name !== name);
    if (webhooks.length === before.webhooks.length) throw new Problem('not-found', `There is no webhook \`${name}\`.`);
    await this.#settings.write(environment, { ...before, webhooks }, new Date(this.parts.now()));
  }

  secretOf(environment: Environment, { name, sealed }: StoredWebhook): string {
    return unseal(environment.keys.data, contextOf(environment, name), sealed).toString();
  }

  /** What became of the latest message to a webhook. */
  async noteWebhook(environment: Environment, name: string, outcome: { status: number | null; failure: string | null }): Promise<void> {
    this.#settings.forget(environment);
    const before = await this.stored(environment);
    const now = new Date(this.parts.now());
    const webhooks = before.webhooks.map((one) =>
      one.name === name ? { ...one, lastStatus: outcome.status, lastFailure: outcome.failure, lastAt: now.toISOString() } : one,
    );
    await this.#settings.write(environment, { ...before, webhooks }, now);
  }
}

const contextOf = ({ sealedFor: id }: Pick<Environment, 'sealedFor'>, name: string): string => `${id}:webhook:${name}`;
