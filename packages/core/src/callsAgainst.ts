/** The calls that count against an objective, as a filter of requests. */
import type { Evaluated } from './condition.js';
import type { Measure } from './objectives.js';
import type { Subject } from './tallies.js';

const quoted = (text: string): string => `'${text.replaceAll("'", "''")}'`;

/**
 * A CQL2 condition over requests, newest window up to a time.
 * @returns null for objectives that no request counts against: jobs have a page of their own
 */
export function callsAgainst({ subject, measure, windowMs, stressed, leaveOut }: Evaluated, until: number): string | null {
  const about = ofSubject(subject);
  const bad = subject.of === 'gateway' && measure.of !== 'latency' ? NOT_DELIVERED : ofMeasure(measure, stressed);
  if (about === null || bad === null) return null;
  const isByStatus = measure.of === 'failed' || measure.of === 'refused';
  const left = isByStatus && leaveOut.length > 0 ? [`(problem IS NULL OR NOT problem IN (${leaveOut.map(quoted).join(', ')}))`] : [];
  const times = [`at > TIMESTAMP('${new Date(until - windowMs).toISOString()}')`, `at <= TIMESTAMP('${new Date(until).toISOString()}')`];
  return [...about, bad, ...left, ...times].join(' AND ');
}

/** An address that is gone is no fault of the gateway. */
const NOT_DELIVERED = "problem <> 'address-gone'";

function ofSubject(subject: Subject): string[] | null {
  switch (subject.of) {
    case 'calls':
      return ["direction = 'in'"];
    case 'client':
      return [`client = ${quoted(subject.name)}`];
    case 'route': {
      const target = subject.target === undefined ? [] : [`target = ${quoted(subject.target)}`];
      return [`method = ${quoted(subject.method)}`, `route = ${quoted(subject.route)}`, ...target];
    }
    case 'gateway':
      return ["direction = 'out'", ...(subject.name === undefined ? [] : [`route = ${quoted(subject.name)}`])];
    case 'jobs':
      return null;
    case 'function': {
      const target = subject.name === undefined ? [] : [`target = ${quoted(subject.name)}`];
      return ["route = '/app/v1/endpoints/{path...}'", ...target];
    }
  }
}

function ofMeasure(measure: Measure, stressed: number): string | null {
  switch (measure.of) {
    case 'latency':
      return `durationMs > ${stressed}`;
    case 'within':
      return `durationMs > ${measure.ms}`;
    case 'failed':
      return 'status >= 500';
    case 'refused':
      return 'status >= 400 AND status < 500';
    default:
      return null;
  }
}
