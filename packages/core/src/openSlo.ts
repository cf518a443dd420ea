/**
 * Objectives as OpenSLO v1 documents (github.com/OpenSLO/OpenSLO, the enhancement of version 1) and back. Each objective is one SLO
 * with its indicator inside; its two limits are two objectives of that SLO. What OpenSLO has no word for stands in annotations.
 */
import { BURN_LIMITS, hasBudget } from './condition.js';
import { measureWords, subjectWords } from './objectiveWords.js';
import { isHigherWorse, isShare, type Measure } from './objectives.js';
import type { Subject } from './tallies.js';

/** An objective as files know it. */
export type SloObjective = {
  name: string;
  title?: string | undefined;
  subject: Subject;
  measure: Measure;
  windowMs: number;
  stressed: number;
  failing: number;
  leastCalls: number;
  leaveOut: string[];
};
export type SloDocument = { apiVersion: string; kind: string; metadata: Metadata; spec: Record<string, unknown> };
type Metadata = { name: string; displayName?: string; annotations?: Record<string, string> };

export const OPEN_SLO_VERSION = 'openslo/v1';
const SOURCE = 'vivid-orchard';
const ANNOTATION = {
  leastCalls: `${SOURCE}/least-calls`,
  leaveOut: `${SOURCE}/leave-out`,
  windowMs: `${SOURCE}/window-ms`,
  limits: `${SOURCE}/limits`,
};
const KINDS = ['DataSource', 'Service', 'SLI', 'SLO', 'AlertPolicy', 'AlertCondition', 'AlertNotificationTarget'];
const BURN_POLICY = 'budget-burn';

const MINUTE_MS = 60_000;
const UNITS = { m: MINUTE_MS, h: 60 * MINUTE_MS, d: 1440 * MINUTE_MS, w: 7 * 1440 * MINUTE_MS } as const;

/** Section "duration-shorthand": a whole number and m, h, d or w. Rounded up to minutes. */
function shorthand(ms: number): string {
  const unit = (['w', 'd', 'h'] as const).find((one) => ms % UNITS[one] === 0) ?? 'm';
  return `${Math.ceil(ms / UNITS[unit])}${unit}`;
}

function readShorthand(text: unknown): number | null {
  const found = /^(\d+)([mhdw])$/.exec(String(text));
  return found ? Number(found[1]) * UNITS[found[2] as keyof typeof UNITS] : null;
}

/** Section "SLO": a target lies in [0, 1). */
const MOST_TARGET = 0.999999999;
/** Without binary dust: 1 - 0.8 is 0.2. */
const round = (value: number): number => Number(value.toPrecision(12));

export function writeOpenSlo(service: { name: string; title: string }, objectives: readonly SloObjective[]): SloDocument[] {
  const documents: SloDocument[] = [
    {
      apiVersion: OPEN_SLO_VERSION,
      kind: 'Service',
      metadata: { name: service.name, displayName: service.title },
      spec: { description: `The environment ${service.title}` },
    },
    ...objectives.map((objective) => writeSlo(service.name, objective)),
  ];
  return objectives.some(hasBudget) ? [...documents, burnPolicy()] : documents;
}

function writeSlo(service: string, objective: SloObjective): SloDocument {
  const { name, title, subject, measure, windowMs } = objective;
  const annotations = annotationsOf(objective);
  return {
    apiVersion: OPEN_SLO_VERSION,
    kind: 'SLO',
    metadata: { name, ...(title === undefined ? {} : { displayName: title }), annotations },
    spec: {
      description: `${measureWords(measure)}, ${subjectWords(subject)}`,
      service,
      indicator: { metadata: { name }, spec: indicatorOf(subject, measure) },
      timeWindow: [{ duration: shorthand(windowMs), isRolling: true }],
      ...(isShare(measure) ? { budgetingMethod: 'Occurrences' } : { budgetingMethod: 'Timeslices' }),
      objectives: (['stressed', 'failing'] as const).map((level) => writeLimit(level, objective)),
      ...(hasBudget(objective) ? { alertPolicies: [BURN_POLICY] } : {}),
    },
  };
}

function annotationsOf({ measure, windowMs, stressed, failing, leastCalls, leaveOut }: SloObjective): Record<string, string> {
  const targets = [stressed, failing].map((limit) => (isHigherWorse(measure) ? 1 - limit : limit));
  const isInexact =
    isShare(measure) && targets.some((target, i) => target > MOST_TARGET || limitOf(measure, round(target)) !== [stressed, failing][i]);
  return {
    [ANNOTATION.leastCalls]: String(leastCalls),
    ...(leaveOut.length > 0 ? { [ANNOTATION.leaveOut]: leaveOut.join(',') } : {}),
    ...(readShorthand(shorthand(windowMs)) === windowMs ? {} : { [ANNOTATION.windowMs]: String(windowMs) }),
    ...(isInexact ? { [ANNOTATION.limits]: `${stressed},${failing}` } : {}),
  };
}

/** Section "SLI": a ratio of good or bad events to all of them, or a value against a threshold. */
function indicatorOf(subject: Subject, measure: Measure): Record<string, unknown> {
  const source = { metricSource: { type: SOURCE, spec: { subject, measure } } };
  if (!isShare(measure)) return { thresholdMetric: source };
  const total = { metricSource: { type: SOURCE, spec: { subject, measure: { of: 'calls' } } } };
  return { ratioMetric: { counter: true, ...(isHigherWorse(measure) ? { bad: source } : { good: source }), total } };
}

function writeLimit(level: 'stressed' | 'failing', objective: SloObjective): Record<string, unknown> {
  const limit = objective[level];
  const { measure, windowMs } = objective;
  if (isShare(measure)) return { displayName: level, target: Math.min(MOST_TARGET, round(isHigherWorse(measure) ? 1 - limit : limit)) };
  // A value is judged anew for each window: each is one slice.
  return {
    displayName: level,
    op: 'lte',
    value: limit,
    target: MOST_TARGET,
    timeSliceTarget: MOST_TARGET,
    timeSliceWindow: shorthand(windowMs),
  };
}

const limitOf = (measure: Measure, target: number): number => (isHigherWorse(measure) ? round(1 - target) : target);

/** Section "AlertPolicy", with its conditions inside. */
function burnPolicy(): SloDocument {
  const condition = (speed: 'fast' | 'slow', lookbackWindow: string) => ({
    kind: 'AlertCondition',
    metadata: { name: `${speed}-burn` },
    spec: {
      severity: speed === 'fast' ? 'page' : 'ticket',
      condition: { kind: 'burnrate', op: 'gte', threshold: BURN_LIMITS[speed], lookbackWindow, alertAfter: '0m' },
    },
  });
  return {
    apiVersion: OPEN_SLO_VERSION,
    kind: 'AlertPolicy',
    metadata: { name: BURN_POLICY },
    spec: {
      description: 'The error budget is spent too fast',
      alertWhenNoData: false,
      alertWhenResolved: true,
      alertWhenBreaching: true,
      conditions: [condition('fast', '1h'), condition('slow', '6h')],
      notificationTargets: [],
    },
  };
}

/** What cannot be read, with the place in the file. */
export class OpenSloError extends Error {
  constructor(
    readonly path: string,
    readonly problem: string,
    readonly expected: string,
  ) {
    super(problem);
  }
}

/**
 * Reads the objectives of OpenSLO documents.
 * @returns them as they stand, unchecked, and notes on what is not taken over
 * @throws {OpenSloError}
 */
export function readOpenSlo(documents: readonly unknown[]): { objectives: SloObjective[]; notes: string[] } {
  const known = documents.map((document, i) => demandDocument(document, `documents.${i}`));
  const indicators = new Map(known.filter(({ kind }) => kind === 'SLI').map(({ metadata, spec }) => [metadata.name, spec]));
  const objectives = known.flatMap((document, i) => (document.kind === 'SLO' ? [readSlo(document, `documents.${i}`, indicators)] : []));
  const notes = known
    .filter(({ kind, metadata }) => !['SLO', 'SLI', 'Service'].includes(kind) && metadata.name !== BURN_POLICY)
    .map(({ kind, metadata }) => `${kind} \`${metadata.name}\` is not taken over.`);
  if (objectives.length === 0) throw new OpenSloError('documents', 'The file has no SLO.', 'at least one document of the kind `SLO`');
  return { objectives, notes };
}

const isObject = (value: unknown): value is Record<string, unknown> => typeof value === 'object' && value !== null && !Array.isArray(value);

function demandDocument(document: unknown, path: string): SloDocument {
  if (!isObject(document)) throw new OpenSloError(path, 'It is no object.', 'an OpenSLO document with apiVersion, kind, metadata and spec');
  const { apiVersion, kind, metadata, spec } = document;
  if (apiVersion !== OPEN_SLO_VERSION)
    throw new OpenSloError(
      `${path}.apiVersion`,
      `This is a file of ${apiVersion === undefined ? 'no apiVersion' : `the version \`${apiVersion}\``}.`,
      `\`${OPEN_SLO_VERSION}\``,
    );
  if (typeof kind !== 'string' || !KINDS.includes(kind))
    throw new OpenSloError(`${path}.kind`, `OpenSLO v1 has no kind \`${kind}\`.`, KINDS.join(', '));
  if (!isObject(metadata) || typeof metadata.name !== 'string')
    throw new OpenSloError(`${path}.metadata.name`, `The ${kind} has no name.`, 'a name');
  if (!isObject(spec)) throw new OpenSloError(`${path}.spec`, `The ${kind} \`${metadata.name}\` has no spec.`, 'an object');
  return document as SloDocument;
}

function readSlo({ metadata, spec }: SloDocument, path: string, indicators: ReadonlyMap<string, Record<string, unknown>>): SloObjective {
  const { name, displayName, annotations = {} } = metadata;
  const { subject, measure } = readIndicator(spec, `${path}.spec`, indicators);
  const [stressed, failing] = readLimits(spec, measure, annotations, `${path}.spec.objectives`);
  return {
    name,
    ...(displayName === undefined ? {} : { title: displayName }),
    subject,
    measure,
    windowMs: readWindow(spec, annotations, `${path}.spec.timeWindow`),
    stressed,
    failing,
    leastCalls: Number(annotations[ANNOTATION.leastCalls] ?? 10),
    leaveOut: (annotations[ANNOTATION.leaveOut] ?? '').split(',').filter(Boolean),
  };
}

function readIndicator(
  spec: Record<string, unknown>,
  path: string,
  indicators: ReadonlyMap<string, Record<string, unknown>>,
): { subject: Subject; measure: Measure } {
  const { indicator, indicatorRef } = spec;
  const found =
    typeof indicatorRef === 'string'
      ? indicators.get(indicatorRef)
      : isObject(indicator) && isObject(indicator.spec)
        ? indicator.spec
        : undefined;
  if (!found)
    throw new OpenSloError(
      `${path}.indicator`,
      typeof indicatorRef === 'string' ? `There is no SLI \`${indicatorRef}\` in the file.` : 'The SLO has no indicator.',
      'an indicator, or the name of an SLI in the file',
    );
  const ratio = found.ratioMetric;
  const metric = isObject(ratio) ? (ratio.good ?? ratio.bad) : found.thresholdMetric;
  const source = isObject(metric) ? metric.metricSource : undefined;
  if (!isObject(source) || source.type !== SOURCE || !isObject(source.spec))
    throw new OpenSloError(
      `${path}.indicator`,
      `Its metric source is ${isObject(source) ? `of the type \`${source.type}\`` : 'missing'}.`,
      `a metric source of the type \`${SOURCE}\`, whose spec has \`subject\` and \`measure\``,
    );
  return source.spec as { subject: Subject; measure: Measure };
}

function readWindow({ timeWindow }: Record<string, unknown>, annotations: Record<string, string>, path: string): number {
  const window = Array.isArray(timeWindow) ? timeWindow[0] : undefined;
  if (!isObject(window) || window.isRolling === false)
    throw new OpenSloError(path, 'Only a rolling time window is known here.', 'one window with `duration` and `isRolling: true`');
  const ms = readShorthand(window.duration);
  if (ms === null)
    throw new OpenSloError(`${path}.0.duration`, `\`${window.duration}\` is no duration.`, 'a whole number and m, h, d or w, such as 5m');
  const exact = Number(annotations[ANNOTATION.windowMs]);
  // The annotation only sharpens what the file says; a changed duration counts.
  return Math.ceil(exact / MINUTE_MS) * MINUTE_MS === ms ? exact : ms;
}

function readLimits(
  { objectives }: Record<string, unknown>,
  measure: Measure,
  annotations: Record<string, string>,
  path: string,
): [number, number] {
  const list = Array.isArray(objectives) ? objectives.filter(isObject) : [];
  const exact = (annotations[ANNOTATION.limits] ?? '').split(',').map(Number);
  const read = (level: 'stressed' | 'failing', at: number): number => {
    const one = list.find(({ displayName }) => displayName === level);
    if (!one)
      throw new OpenSloError(
        path,
        `There is no objective \`${level}\`.`,
        'two objectives, with the display names `stressed` and `failing`',
      );
    const value = isShare(measure) ? targetOf(one) : one.value;
    if (typeof value !== 'number')
      throw new OpenSloError(
        `${path}.${list.indexOf(one)}`,
        `The objective \`${level}\` has no ${isShare(measure) ? 'target' : 'value'}.`,
        'a number',
      );
    const limit = isShare(measure) ? limitOf(measure, value) : value;
    const sharp = exact[at];
    return sharp !== undefined && exact.length === 2 && Math.abs(sharp - limit) < 1e-8 ? sharp : limit;
  };
  return [read('stressed', 0), read('failing', 1)];
}

/** Section "SLO": `target`, or `targetPercent` instead. */
const targetOf = ({ target, targetPercent }: Record<string, unknown>): unknown =>
  typeof targetPercent === 'number' ? round(targetPercent / 100) : target;
