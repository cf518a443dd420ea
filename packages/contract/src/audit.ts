/** What the audit tells apart, and what it calls changes that no operation makes. */

/** The kinds of things that members, tokens and the service change, with the database that holds each. */
export const AUDIT_KINDS = {
  app: 'installation',
  environment: 'installation',
  client: 'installation',
  key: 'installation',
  member: 'installation',
  session: 'installation',
  token: 'installation',
  'second factor': 'installation',
  'installation gateway': 'installation',
  digest: 'installation',
  'backup place': 'installation',
  setup: 'environment',
  backup: 'installation',
  collection: 'environment',
  index: 'environment',
  'outside server': 'environment',
  'outside table': 'environment',
  view: 'environment',
  record: 'environment',
  file: 'environment',
  folder: 'environment',
  'share link': 'environment',
  site: 'environment',
  broadcast: 'environment',
  'broadcast settings': 'environment',
  'turn settings': 'environment',
  'file settings': 'environment',
  user: 'environment',
  device: 'environment',
  topic: 'environment',
  channel: 'environment',
  gateway: 'environment',
  'signing request': 'environment',
  notification: 'environment',
  'standing notification': 'environment',
  function: 'environment',
  secret: 'environment',
  upstream: 'environment',
  'opt-out': 'environment',
  'message settings': 'environment',
  job: 'environment',
  objectives: 'environment',
  recording: 'environment',
  alerts: 'environment',
  incident: 'environment',
  'log levels': 'environment',
  error: 'environment',
  'source map': 'environment',
  'planned work': 'environment',
  search: 'environment',
  report: 'environment',
  'event plan': 'environment',
  'insight settings': 'environment',
  'entry rules': 'environment',
  'account mail': 'environment',
  'user field': 'environment',
  'sign-in way': 'environment',
  'sign-in page': 'environment',
  'date note': 'environment',
  sheet: 'environment',
  'user role': 'environment',
  'user session': 'user',
} as const;
export type AuditKind = keyof typeof AUDIT_KINDS;

/** What the service does by itself: a write to an open environment brings fields that are not there yet. */
export const OPEN_ENVIRONMENT = 'collections.extend';
export const SERVICE_ACTIONS: Record<string, string> = {
  [OPEN_ENVIRONMENT]: 'Add what a write to an open environment brought',
};

/**
 * `begun` is written before a change that is no single transaction, such as one of tables; `done` or `failed` follows, or
 * nothing if the service died meanwhile.
 */
export const AUDIT_OUTCOMES = ['done', 'begun', 'failed'] as const;
export type AuditOutcome = (typeof AUDIT_OUTCOMES)[number];
