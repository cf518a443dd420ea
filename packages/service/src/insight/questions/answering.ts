/** Each question: read, asked of the threads, and laid out as the API shows it. */
import type {
  ArrivalsReply,
  BodyOf,
  EffectReply,
  EventCounts,
  FunnelReply,
  operations,
  PathsReply,
  PeopleReply,
  ReplyOf,
  ReturnsReply,
  VisitsReply,
  WhyReply,
} from '@orchard/contract';
import {
  type Behaviour,
  type CountMeasure,
  type CountSeries,
  calendarStep,
  type Difference,
  type FunnelQuestion,
  type InsightEvent,
  returnCurve,
  stepFor,
  stepsOf,
  type TimesAnswer,
} from '@orchard/core/insight';
import type { Environment } from '../../platform/call.js';
import type { KnownPeople } from '../events/peopleStore.js';
import { answerEffect } from './effect.js';
import { lastCallsOf } from './lastCalls.js';
import type { Parts } from './parts.js';
import { QuestionReader } from './reading.js';
import type { Asking, Watch } from './asking.js';

type Own = (typeof operations)['insight'];
type Body<Name extends keyof Own> = BodyOf<Own[Name]>;
export type Asked = Watch & { environment: Environment };
type BehindReply = ReplyOf<Own['behind']>;
type Period = { from: number; until: number };

const DAY_MS = 86_400_000;
/** What is told of one person. */
const [MOST_DAYS, MOST_EVENTS] = [799, 100_000];
const WINDOWS_MS = [DAY_MS, 7 * DAY_MS, 28 * DAY_MS];
const iso = (at: number) => new Date(at).toISOString();
const before = ({ from, until }: Period): Period => ({ from: from - (until - from), until: from });

export class Questions {
  constructor(
    private readonly parts: Parts,
    private readonly asking: Asking,
  ) {}

  #reader(environment: Environment, body: Parameters<typeof QuestionReader.of>[2]): Promise<QuestionReader> {
    return QuestionReader.of(this.parts, environment, body);
  }

  #answered({ period, zone }: QuestionReader, { erased }: KnownPeople, beganAt: number) {
    return { from: iso(period.from), until: iso(period.until), zone, erased, tookMs: Math.round(this.parts.now() - beganAt) };
  }

  async events({ environment, ...watch }: Asked, body: Body<'events'>): Promise<EventCounts> {
    const beganAt = this.parts.now();
    const reader = await this.#reader(environment, body);
    const step = body.step ?? (body.stepMs ? calendarStep(body.stepMs) : stepFor(reader.period.from, reader.period.until));
    const measure = measureOf(body.measure, reader);
    const common = { wanted: reader.wanted(body), by: reader.groups(body.group), measure, top: body.top };
    const count = async (period: Period) => {
      const steps = stepsOf(period.from, period.until, step, reader.zone);
      const asked = { kind: 'count' as const, question: { ...period, ...common, steps } };
      const { answer, people } = await this.asking.ask(environment.db, asked, reader.reading(period), watch);
      return { series: presentSeries(answer.series, steps), groups: answer.groups, people };
    };
    const { series, groups, people } = await count(reader.period);
    return {
      ...this.#answered(reader, people, beganAt),
      step,
      series,
      groups,
      ...(body.compare ? { previous: (await count(before(reader.period))).series } : {}),
    };
  }

  async funnel({ environment, ...watch }: Asked, body: Body<'funnel'>): Promise<FunnelReply> {
    const beganAt = this.parts.now();
    const reader = await this.#reader(environment, body);
    const { from, until } = reader.period;
    const trendStep = body.trendStep ?? stepFor(from, until);
    const trend = stepsOf(from, until, trendStep, reader.zone);
    const question = { ...funnelOf(reader, body), trend };
    const { answer, people } = await this.asking.ask(environment.db, { kind: 'funnel', question }, reader.reading(), watch);
    return {
      ...this.#answered(reader, people, beganAt),
      steps: answer.steps,
      groups: answer.groups,
      trendStep,
      trend: answer.trend.map((one, i) => ({ at: iso(trend[i] as number), ...one })),
      durations: answer.durations,
    };
  }

  /** Those who reached a step and not the next, and those who reached the next. */
  async #atStep({ environment, ...watch }: Asked, body: Body<'funnel'> & { step: number }) {
    const reader = await this.#reader(environment, body);
    const question = funnelOf(reader, body);
    const { answer, people } = await this.asking.ask(environment.db, { kind: 'funnel', question }, reader.reading(), watch);
    const reached = answer.reached[body.step] ?? new Uint32Array(0);
    const went = answer.reached[body.step + 1] ?? new Uint32Array(0);
    const further = new Set(went);
    return { reader, question, people, reached, went, stopped: reached.filter((person) => !further.has(person)) };
  }

  async why(asked: Asked, body: Body<'why'>): Promise<WhyReply> {
    const beganAt = this.parts.now();
    const { reader, question, people, stopped, went } = await this.#atStep(asked, body);
    const step = question.steps[body.step];
    const { period, properties } = reader;
    const answer =
      step && stopped.length > 0
        ? (
            await this.asking.ask(
              asked.environment.db,
              {
                kind: 'why',
                question: { ...period, step, stopped, went, properties: reader.groups(properties), windowMs: body.windowMs },
              },
              reader.reading(),
              asked,
            )
          ).answer
        : { differences: [], next: [], last: { people: new Uint32Array(0), at: new Float64Array(0) } };
    return {
      ...this.#answered(reader, people, beganAt),
      stopped: stopped.length,
      went: went.length,
      differences: answer.differences.map((one) => ({ ...one, words: differenceWords(one) })),
      calls: await lastCallsOf(this.parts, asked.environment, answer.last),
      next: answer.next,
    };
  }

  async people(asked: Asked, body: Body<'people'>): Promise<PeopleReply> {
    const { reached, stopped } = await this.#atStep(asked, body);
    const wanted = body.stopped ? stopped : reached;
    const shown = await this.parts.people.show(asked.environment.db, [...wanted.slice(0, body.limit)]);
    return { total: wanted.length, items: shown.map(({ firstAt, ...one }) => ({ ...one, firstAt: firstAt.toISOString() })) };
  }

  async behind({ environment, ...watch }: Asked, body: Body<'behind'>): Promise<BehindReply> {
    const beganAt = this.parts.now();
    const reader = await this.#reader(environment, body);
    const question = { ...reader.period, wanted: reader.wanted(body) };
    const { answer, people } = await this.asking.ask(environment.db, { kind: 'times', question }, reader.reading(), watch);
    const [since, before] = [body.newSince, body.newBefore].map((at) => (at ? Date.parse(at) : null));
    const wanted = [...answer.people.keys()]
      .map((i) => ({ person: answer.people[i] as number, times: answer.times[i] as number }))
      .filter(({ person }) => {
        const first = people.firstSeen[person] as number;
        return (since == null || first >= since) && (before == null || first < before);
      })
      .sort((a, b) => b.times - a.times || a.person - b.person);
    const times = new Map(wanted.slice(0, body.limit).map((one) => [one.person, one.times]));
    const shown = await this.parts.people.show(environment.db, [...times.keys()]);
    const items = shown.map(({ firstAt, ...one }) => ({ ...one, firstAt: firstAt.toISOString(), times: times.get(one.person) ?? 0 }));
    return {
      ...this.#answered(reader, people, beganAt),
      total: wanted.length,
      items: items.sort((a, b) => b.times - a.times || a.person - b.person),
    };
  }

  effect({ environment, ...watch }: Asked, body: Body<'effect'>): Promise<EffectReply> {
    return answerEffect(this.parts, this.asking, environment, body, watch);
  }

  async visits({ environment, ...watch }: Asked, body: Body<'visits'>): Promise<VisitsReply> {
    const beganAt = this.parts.now();
    const reader = await this.#reader(environment, body);
    const step = body.step ?? stepFor(reader.period.from, reader.period.until);
    reader.columns.add('visit');
    const common = { filter: reader.filter(body.filter), by: reader.groups(body.group), top: body.top, gapMs: reader.gapMs };
    const ask = (period: Period) => {
      const steps = stepsOf(period.from, period.until, step, reader.zone);
      return this.asking.ask(environment.db, { kind: 'visits', question: { ...period, ...common, steps } }, reader.reading(period), watch);
    };
    const { answer, people } = await ask(reader.period);
    const steps = stepsOf(reader.period.from, reader.period.until, step, reader.zone);
    return {
      ...this.#answered(reader, people, beganAt),
      step,
      ...answer,
      steps: answer.steps.map((one, i) => ({ at: iso(steps[i] as number), ...one })),
      ...(body.compare ? { previous: (await ask(before(reader.period))).answer.total } : {}),
    };
  }

  async arrivals({ environment, ...watch }: Asked, body: Body<'arrivals'>): Promise<ArrivalsReply> {
    const beganAt = this.parts.now();
    const reader = await this.#reader(environment, body);
    const step = body.step ?? stepFor(reader.period.from, reader.period.until);
    const common = { filter: reader.filter(body.filter), by: reader.groups(body.group), top: body.top };
    const ask = (period: Period) => {
      const steps = stepsOf(period.from, period.until, step, reader.zone);
      return this.asking.ask(
        environment.db,
        { kind: 'arrivals', question: { ...period, ...common, steps } },
        reader.reading(period),
        watch,
      );
    };
    const { answer, people } = await ask(reader.period);
    const { until } = reader.period;
    const recent = { from: until - Math.max(...WINDOWS_MS), until, columns: [] };
    const active = await this.asking.ask(environment.db, { kind: 'active', question: { until, windowsMs: WINDOWS_MS } }, recent, watch);
    const [day = 0, week = 0, month = 0] = active.answer;
    const steps = stepsOf(reader.period.from, until, step, reader.zone);
    const previous = body.compare ? (await ask(before(reader.period))).answer : null;
    return {
      ...this.#answered(reader, people, beganAt),
      step,
      total: answer.total,
      before: answer.before,
      active: answer.active,
      activity: { day, week, month, ratio: month === 0 ? null : day / month },
      steps: answer.steps.map((one, i) => ({ at: iso(steps[i] as number), ...one })),
      groups: answer.groups.map(({ since, ...one }) => ({ ...one, since: since === null ? null : iso(since) })),
      ...(previous ? { previous: { total: previous.total, active: previous.active } } : {}),
    };
  }

  async returns({ environment, ...watch }: Asked, body: Body<'returns'>): Promise<ReturnsReply> {
    const beganAt = this.parts.now();
    const reader = await this.#reader(environment, body);
    const steps = stepsOf(reader.period.from, reader.period.until, body.step, reader.zone);
    const question = {
      ...reader.period,
      steps,
      first: body.first ? reader.wanted(body.first) : null,
      again: reader.wanted(body.again ?? {}),
      orLater: body.orLater,
      by: reader.groups(body.group),
      top: body.top,
    };
    const { answer, people } = await this.asking.ask(environment.db, { kind: 'returns', question }, reader.reading(), watch);
    return {
      ...this.#answered(reader, people, beganAt),
      step: body.step,
      cohorts: answer.cohorts.map(({ at, ...cohort }) => ({ at: iso(at), ...cohort })),
      curve: returnCurve(answer.cohorts),
      groups: answer.groups,
    };
  }

  /** How often each person did something, up to now. */
  async times({ environment, ...watch }: Asked, { event, days, filter }: Behaviour): Promise<TimesAnswer> {
    const until = this.parts.now();
    const period = { from: new Date(until - days * DAY_MS).toISOString(), until: new Date(until).toISOString() };
    const reader = await this.#reader(environment, period);
    const question = { ...reader.period, wanted: reader.wanted({ event, filter: filter ?? undefined }) };
    return (await this.asking.ask(environment.db, { kind: 'times', question }, reader.reading(), watch)).answer;
  }

  /** All that a user did, as far as events are kept. */
  async ofUser(environment: Environment, userId: string): Promise<InsightEvent[]> {
    const person = await this.parts.people.numberOf(environment.db, userId);
    if (person === null) return [];
    const until = this.parts.now();
    const reader = await this.#reader(environment, { from: iso(until - MOST_DAYS * DAY_MS), until: iso(until) });
    reader.groups(reader.properties);
    const question = { ...reader.period, person, most: MOST_EVENTS };
    return (await this.asking.ask(environment.db, { kind: 'ofPerson', question }, reader.reading())).answer;
  }

  async paths({ environment, ...watch }: Asked, body: Body<'paths'>): Promise<PathsReply> {
    const beganAt = this.parts.now();
    const reader = await this.#reader(environment, body);
    reader.columns.add('visit');
    const { event, direction, depth, leastShare } = body;
    const question = {
      ...reader.period,
      wanted: { event, filter: reader.filter(body.filter) },
      direction,
      depth,
      leastShare,
      gapMs: reader.gapMs,
    };
    const { answer, people } = await this.asking.ask(environment.db, { kind: 'paths', question }, reader.reading(), watch);
    return { ...this.#answered(reader, people, beganAt), ...answer };
  }
}

function measureOf(text: string, reader: QuestionReader): CountMeasure {
  const [of = 'count', property] = text.split(':');
  return property === undefined ? { of: of as 'count' } : { of: of as 'sum', property: reader.number(property) };
}

function funnelOf(reader: QuestionReader, body: Body<'funnel'>): FunnelQuestion {
  if (body.perVisit) reader.columns.add('visit');
  return {
    ...reader.period,
    steps: body.steps.map((step) => reader.wanted(step)),
    windowMs: body.windowMs,
    order: body.order,
    without: body.without.map((one) => reader.wanted(one)),
    perVisit: body.perVisit,
    by: reader.groups(body.by),
    top: body.top,
    gapMs: reader.gapMs,
  };
}

const presentSeries = (series: readonly CountSeries[], steps: readonly number[]): EventCounts['series'] =>
  series.map(({ group, total, steps: values }) => ({
    group,
    total,
    steps: values.map((value, i) => ({ at: iso(steps[i] as number), value })),
  }));

const percent = (share: number): string => `${(share * 100).toLocaleString('en-GB', { maximumFractionDigits: share < 0.1 ? 1 : 0 })} %`;

/** `version is 2.6.0 for 95 % of those who stopped, and for 30 % of those who went on`. */
const differenceWords = ({ property, value, shareOfStopped, shareOfWent }: Difference): string =>
  `${property} ${value === null ? 'is missing' : `is ${value}`} for ${percent(shareOfStopped)} of those who stopped, and for ${percent(shareOfWent)} of those who went on`;
