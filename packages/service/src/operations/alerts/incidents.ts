/**
 * Incidents: opened when an environment stops being well, alerted in steps until somebody acknowledges, closed when it is well
 * again. One message an incident, whatever its condition does meanwhile.
 */
import type { EnvironmentCondition } from '@orchard/core';
import { type Actor, BURN_LIMITS, CONDITIONS, writeActor } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import type { Job } from '../../platform/jobs/queue.js';
import type { Change, Evaluated } from '../objectives/findings.js';
import { plannedSince } from '../objectives/plannedStore.js';
import {
  acknowledgeOnce,
  addHappening,
  addIncident,
  demandIncident,
  findLink,
  type HappeningKind,
  type IncidentRow,
  openIncident,
  unacknowledgedOf,
  updateIncident,
} from './incidentStore.js';
import type { Parts } from './parts.js';
import { hashKey } from '../../platform/access/secrets.js';
import { appliesTo, dueSteps, NO_PROGRESS } from './progress.js';
import type { AlertMessage, AlertSender, Told } from './sending.js';
import type { AlertRules } from './settings.js';

export const ALERT_JOB = 'alert';
const SERVICE = writeActor({ kind: 'service', id: null });
const isUnwell = (condition: EnvironmentCondition): boolean => condition === 'stressed' || condition === 'failing';

export class Incidents {
  /** Budgets that burn, by environment and objective, so that an evaluation needs no statement. */
  readonly #burning = new Set<string>();

  constructor(
    private readonly parts: Parts,
    private readonly rules: AlertRules,
    private readonly sender: AlertSender,
  ) {}

  /** After the condition of an environment has changed. */
  async conditionChanged(environment: Environment, { at, condition, text }: Change): Promise<void> {
    if (isUnwell(condition)) await this.#unwell(environment, 'condition', condition, at, text);
    else await this.#well(environment, 'condition', at);
  }

  /** After each evaluation: budgets that are spent too fast. */
  async found(environment: Environment, { findings }: Pick<Evaluated, 'findings'>): Promise<void> {
    for (const { name, title, budget } of findings.objectives) {
      const key = `${environment.id} ${name}`;
      const isFast = (budget?.fast ?? 0) >= BURN_LIMITS.fast;
      const burns = isFast || (budget?.slow ?? 0) >= BURN_LIMITS.slow;
      if (burns === this.#burning.has(key)) continue;
      const now = this.parts.now();
      if (burns) {
        this.#burning.add(key);
        const speed = isFast ? (budget?.fast as number) : (budget?.slow as number);
        const text = `The error budget of ${title ?? name} is spent ${speed.toFixed(1)} times as fast as its window allows.`;
        await this.#unwell(environment, `budget ${name}`, isFast ? 'failing' : 'stressed', now, text);
      } else {
        this.#burning.delete(key);
        await this.#well(environment, `budget ${name}`, now);
      }
    }
  }

  async #unwell(
    environment: Environment,
    subject: string,
    condition: EnvironmentCondition,
    at: number,
    text: string | null,
  ): Promise<void> {
    const open = await openIncident(environment, subject);
    const title = text ?? `${environment.app}/${environment.name} is ${condition}`;
    if (!open) {
      const row = {
        id: this.parts.newId(),
        subject,
        openSubject: subject,
        title: title.slice(0, 300),
        condition,
        openedAt: new Date(at),
        closedAt: null,
        acknowledgedAt: null,
        acknowledgedBy: null,
        progress: NO_PROGRESS,
      };
      const incident = await addIncident(environment, row);
      if (!incident) return;
      await this.#note(environment, incident.id, 'opened', `${condition}: ${title}`);
      return this.#alert(environment, incident.id);
    }
    const isWorse = CONDITIONS.indexOf(condition) > CONDITIONS.indexOf(open.condition);
    await this.#note(environment, open.id, isWorse ? 'worse' : 'better', `${condition}: ${title}`);
    if (!isWorse) return;
    await updateIncident(environment, open.id, { condition, title: title.slice(0, 300) });
    await this.#alert(environment, open.id);
  }

  async #well(environment: Environment, subject: string, at: number): Promise<void> {
    const open = await openIncident(environment, subject);
    if (!open) return;
    await updateIncident(environment, open.id, { closedAt: new Date(at), openSubject: null });
    await this.#note(environment, open.id, 'closed', 'All clear');
    await this.#alert(environment, open.id);
  }

  async #note(environment: Environment, id: string, kind: HappeningKind, text: string, by = SERVICE): Promise<void> {
    await addHappening(environment, id, { at: new Date(this.parts.now()), kind, text, by });
    this.parts.changes.wake(environment.id);
  }

  async #alert(environment: Environment, incidentId: string): Promise<void> {
    await this.parts.jobs.add(environment.db, environment, ALERT_JOB, incidentId);
    await this.parts.jobs.wake(environment);
  }

  /** The work of a job: what is due of an incident's alerts. */
  work = async ({ environmentId, subject: id }: Job): Promise<Date | null> => {
    const environment = await this.parts.directory.environmentById(environmentId);
    if (!environment) return null;
    const incident = await demandIncident(environment, id).catch(() => null);
    if (!incident) return null;
    const now = this.parts.now();
    const planned = (await plannedSince(environment, new Date(now))).find(({ from, until }) => from <= now && until > now);
    if (incident.closedAt) return this.#tellAllClear(environment, incident);
    if (planned) return new Date(planned.until);
    if (incident.acknowledgedAt) return null;
    return this.#tellDue(environment, incident, now);
  };

  async #tellDue(environment: Environment, incident: IncidentRow, now: number): Promise<Date | null> {
    const { rules } = await this.rules.stored(environment);
    const own = rules.filter((rule) => appliesTo(rule, incident.subject, incident.condition));
    if (own.length === 0) return null;
    const { due, progress, nextAt } = dueSteps(own, incident.progress, now);
    const told = new Set(progress.told);
    // Stored first: an instance that dies while it sends must not send everything again.
    await updateIncident(environment, incident.id, { progress });
    for (const { targets, isReminder } of due) {
      const results = await this.sender.send(environment, targets, messageOf(environment, incident, isReminder), incident.id);
      for (const one of results) if (one.ok) told.add(one.key);
      await this.#noteTold(environment, incident.id, results, isReminder);
    }
    if (due.length > 0) await updateIncident(environment, incident.id, { progress: { ...progress, told: [...told] } });
    return new Date(nextAt);
  }

  async #noteTold(environment: Environment, id: string, results: readonly Told[], isReminder: boolean): Promise<void> {
    const names = (ok: boolean) => results.filter((one) => one.ok === ok).map(({ to, detail }) => (ok ? to : `${to} ${detail}`));
    const [reached, missed] = [names(true), names(false)];
    if (reached.length > 0) await this.#note(environment, id, isReminder ? 'reminded' : 'alerted', reached.join(', '));
    if (missed.length > 0) await this.#note(environment, id, 'failed-to-alert', missed.join('; '));
    if (results.length === 0) await this.#note(environment, id, 'failed-to-alert', 'Nobody is there to be told');
  }

  /** Those who were told of the trouble are told that it is over. */
  async #tellAllClear(environment: Environment, incident: IncidentRow): Promise<null> {
    const targets = incident.progress.told.map((key) =>
      key.startsWith('webhook ') ? ({ to: 'webhook', webhook: key.slice(8) } as const) : ({ to: 'member', member: key } as const),
    );
    if (targets.length > 0) await this.sender.send(environment, targets, messageOf(environment, incident, false), null);
    return null;
  }

  /** @returns the incident afterwards; acknowledging twice changes nothing */
  async acknowledge(environment: Environment, id: string, by: Actor, how: string): Promise<IncidentRow> {
    await demandIncident(environment, id);
    if (await acknowledgeOnce(environment, id, writeActor(by), new Date(this.parts.now())))
      await this.#note(environment, id, 'acknowledged', how, writeActor(by));
    return demandIncident(environment, id);
  }

  async note(environment: Environment, id: string, by: Actor, text: string): Promise<IncidentRow> {
    const incident = await demandIncident(environment, id);
    await this.#note(environment, id, 'note', text, writeActor(by));
    return incident;
  }

  /** By the address in an alert. @returns null for one that is not valid any more */
  async acknowledgeByLink(token: string): Promise<{ environment: Environment; incident: IncidentRow } | null> {
    const [environmentId = ''] = token.split('.');
    const environment = await this.parts.directory.environmentById(environmentId);
    const link = environment && (await findLink(environment, hashKey(token), new Date(this.parts.now())));
    if (!environment || !link) return null;
    if (!(await this.#stillHasRole(environment, link.memberId))) return null;
    const incident = await this.acknowledge(
      environment,
      link.incidentId,
      { kind: 'member', id: link.memberId },
      'by the address in the alert',
    );
    return { environment, incident };
  }

  /** By answering the SMS. @returns whether the message was one */
  async acknowledgeBySms(memberId: string, text: string): Promise<boolean> {
    if (!/^\s*ok\b/i.test(text)) return false;
    let found = false;
    // The link is stored before the alert leaves: an answer may come while others are still being told.
    for (const environment of await this.parts.directory.allEnvironments())
      for (const id of await unacknowledgedOf(environment, memberId, new Date(this.parts.now()))) {
        if (!(await this.#stillHasRole(environment, memberId))) continue;
        await this.acknowledge(environment, id, { kind: 'member', id: memberId }, 'by SMS');
        found = true;
      }
    return found;
  }

  /** The right may have ended since the alert. */
  async #stillHasRole(environment: Environment, memberId: string): Promise<boolean> {
    return (await this.parts.members.withRoleIn(environment.id)).some(({ id }) => id === memberId);
  }
}

export function messageOf(environment: Pick<Environment, 'app' | 'name'>, incident: IncidentRow, isReminder: boolean): AlertMessage {
  const place = `${environment.app}/${environment.name}`;
  const { id, condition, closedAt, openedAt, title } = incident;
  const isOver = closedAt !== null;
  const words = isOver ? 'is well again' : `is ${condition}`;
  return {
    title: `${isReminder ? 'Still: ' : ''}${place} ${words}`,
    body: isOver
      ? `All clear after ${minutes(closedAt.getTime() - openedAt.getTime())}. It was: ${title}`
      : `${title} Answer an SMS with OK to acknowledge.`,
    link: `/${place}/incidents?open=${id}`,
    urgent: !isOver,
    webhook: {
      type: isOver ? 'incident.closed' : isReminder ? 'incident.reminder' : 'incident.opened',
      app: environment.app,
      environment: environment.name,
      incident: { id, title, condition, openedAt: openedAt.toISOString(), closedAt: closedAt?.toISOString() ?? null },
    },
  };
}

const minutes = (ms: number): string => {
  const number = Math.max(1, Math.round(ms / 60_000));
  return `${number} ${number === 1 ? 'minute' : 'minutes'}`;
};
