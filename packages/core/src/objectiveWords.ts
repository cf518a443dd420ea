/** Objectives in words, the same in pages, commands and alerts. */
import { isHigherWorse, isShare, levelOf, type Limits, type Measure } from './objectives.js';
import type { Subject } from './tallies.js';

const SECOND_MS = 1_000;
const MINUTE_MS = 60_000;
const HOUR_MS = 60 * MINUTE_MS;
const DAY_MS = 24 * HOUR_MS;

const plain = (value: number, digits = 3): string => String(Number(value.toPrecision(digits)));

/** Such as `5 min`, `30 days`, `90 s`. */
export function durationWords(ms: number): string {
  if (ms >= DAY_MS && ms % DAY_MS === 0) return ms === DAY_MS ? '1 day' : `${ms / DAY_MS} days`;
  if (ms >= HOUR_MS && ms % HOUR_MS === 0) return `${ms / HOUR_MS} h`;
  return ms >= MINUTE_MS && ms % MINUTE_MS === 0 ? `${ms / MINUTE_MS} min` : `${plain(ms / SECOND_MS)} s`;
}

export function subjectWords(subject: Subject): string {
  switch (subject.of) {
    case 'calls':
      return 'all calls';
    case 'client':
      return `calls of ${subject.name}`;
    case 'route':
      return `${subject.method} ${subject.target === undefined ? subject.route : subject.route.replace(/\{\w+\}/, subject.target)}`;
    case 'gateway':
      return subject.name === undefined ? 'all gateways' : `gateway ${subject.name}`;
    case 'jobs':
      return subject.kind === undefined ? 'all jobs' : `jobs ${subject.kind}`;
    case 'function':
      return subject.name === undefined ? 'all functions' : `function ${subject.name}`;
  }
}

const STATISTIC_WORDS = { mean: 'mean latency', p50: 'median latency', p95: 'p95 latency', p99: 'p99 latency' } as const;

export function measureWords(measure: Measure): string {
  switch (measure.of) {
    case 'latency':
      return STATISTIC_WORDS[measure.statistic];
    case 'within':
      return `answered within ${valueWords({ of: 'latency', statistic: 'mean' }, measure.ms)}`;
    case 'failed':
      return measure.as === 'share' ? 'share failed' : 'number failed';
    case 'refused':
      return 'share refused';
    case 'delivered':
      return 'share accepted by the network';
    case 'backlog':
      return 'age of the oldest due job';
  }
}

/** A value with its unit. */
export function valueWords(measure: Measure, value: number): string {
  if (isShare(measure)) return `${plain(value * 100)} %`;
  if (measure.of === 'failed') return plain(value, 6);
  if (value < SECOND_MS) return `${plain(value)} ms`;
  if (value < 2 * MINUTE_MS) return `${plain(value / SECOND_MS)} s`;
  return value < 2 * HOUR_MS ? `${plain(value / MINUTE_MS)} min` : `${plain(value / HOUR_MS)} h`;
}

/** What was measured, beside the limit that counts: `share failed, all calls: 7.2 % (failing beyond 5 %)`. */
export function findingWords(objective: Limits & { subject: Subject }, value: number): string {
  const { measure, subject, stressed, failing } = objective;
  const level = levelOf(objective, value);
  const [word, limit] = level === 'failing' ? ['failing', failing] : ['stressed', stressed];
  const beyond = isHigherWorse(measure) ? 'beyond' : 'below';
  return `${measureWords(measure)}, ${subjectWords(subject)}: ${valueWords(measure, value)} (${word} ${beyond} ${valueWords(measure, limit)})`;
}
