import { INSTALLATION } from '../../platform/database/servers.js';
import type { Capability } from '../../platform/capability.js';
import type { Parts } from './parts.js';
import { ALERT_JOB, Incidents } from './incidents.js';
import { alertRoutes } from './routes.js';
import { AlertSender } from './sending.js';
import { AlertRules } from './settings.js';
import { tellOfNotice } from './noticeAlerts.js';
import { watchUnusual } from './unusual.js';
import { Webhooks } from './webhook.js';

const WATCH_MS = 5 * 60_000;

export function alerts(parts: Parts): Capability {
  const { evaluator, notices } = parts;
  const rules = new AlertRules(parts);
  const webhooks = new Webhooks(parts);
  const sender = new AlertSender(parts, rules, webhooks);
  const incidents = new Incidents(parts, rules, sender);
  evaluator.onChange(async (environment, change) => {
    if (environment) await incidents.conditionChanged(environment, change);
  });
  evaluator.onFound((environment, found) => incidents.found(environment, found));
  notices.onTold((notice) => tellOfNotice(parts, rules, sender, notice));
  parts.gatewayPorts.memberAnswered = async (environment, number, text) => {
    if (environment.id !== INSTALLATION) return false;
    const memberId = await parts.memberMessages.memberAt(number);
    return memberId !== null && incidents.acknowledgeBySms(memberId, text);
  };
  return {
    name: 'alerts',
    routes: alertRoutes({ parts, rules, incidents, sender }),
    jobs: { [ALERT_JOB]: { work: incidents.work } },
    recurring: [{ work: 'watch for the unusual', everyMs: WATCH_MS, eachEnvironment: (environment) => watchUnusual(parts, environment) }],
    stop: () => webhooks.close(),
  };
}
