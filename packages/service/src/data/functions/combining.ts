/** Endpoints without code: their calls are made here, and their answers joined by templates. */
import { setTimeout as sleep } from 'node:timers/promises';
import {
  type Combined,
  type CombinedCall,
  combinedProblem,
  fillTemplate,
  type Json,
  type JsonObject,
  orderOf,
  valueAtPath,
} from '@orchard/core';
import { refused } from './checking.js';
import type { Reach } from './reach.js';
import { LIMITS, type RunResult } from './sandbox/messages.js';

/** The only file of an endpoint without code. */
export const COMBINED_FILE = 'combine.json';
const MOST_PAGES = 20;
/** A call of it that failed, where the whole is to be refused then. */
class PartFailed extends Error {}

/** @throws {Problem} function-refused */
export function readCombined(text: string): Combined {
  const at = (message: string, line = 1, column = 1) => refused([{ file: COMBINED_FILE, line, column, message }]);
  let document: unknown;
  try {
    document = JSON.parse(text);
  } catch (error) {
    const { message } = error as Error;
    const [, line, column] = /line (\d+) column (\d+)/.exec(message) ?? [];
    throw at(`It is no JSON: ${message}.`, Number(line ?? 1), Number(column ?? 1));
  }
  const problem = combinedProblem(document);
  if (problem) throw at(problem);
  return document as Combined;
}

/** Makes the calls, round by round, and fills the answer; within the time that any run has. */
export async function runCombined(
  combined: Combined,
  argument: JsonObject,
  reach: Pick<Reach, 'answer'>,
  wallMs = LIMITS.wallMs,
): Promise<RunResult> {
  const controller = new AbortController();
  const late = sleep(wallMs, null, { signal: controller.signal }).then(
    (): RunResult => ({ failure: { reason: 'time', text: `It took longer than ${wallMs / 1000} s.` }, cpuUs: 0, log: [] }),
  );
  late.catch(() => undefined);
  try {
    return await Promise.race([late, joined(combined, argument, reach)]);
  } finally {
    controller.abort();
  }
}

async function joined(combined: Combined, argument: JsonObject, reach: Pick<Reach, 'answer'>): Promise<RunResult> {
  const started = process.cpuUsage();
  const used = () => {
    const { user, system } = process.cpuUsage(started);
    return user + system;
  };
  try {
    const values: JsonObject = { ...argument };
    for (const round of (orderOf(combined.calls) as { order: string[][] }).order)
      await Promise.all(
        round.map(async (name) => {
          values[name] = await part(combined.calls[name] as CombinedCall, values, reach);
        }),
      );
    const { status = 200, headers = {} } = combined;
    const value = { status, headers, body: fillTemplate(combined.answer, values) };
    return { answer: { value } as unknown as Json, cpuUs: used(), log: [] };
  } catch (error) {
    return { failure: { reason: 'error', text: (error as Error).message }, cpuUs: used(), log: [] };
  }
}

/** @throws {PartFailed} */
async function part(call: CombinedCall, values: JsonObject, reach: Pick<Reach, 'answer'>): Promise<Json> {
  try {
    return await ask(call, values, reach);
  } catch (error) {
    const { failing = 'refuse' } = call;
    if (failing === 'without') return null;
    if (failing !== 'refuse') return fillTemplate(failing.instead, values);
    throw new PartFailed(`${'records' in call ? call.records : call.upstream}: ${(error as Error).message}`);
  }
}

const through = async (reach: Pick<Reach, 'answer'>, name: string, given: unknown[]): Promise<Json> => {
  const text = await reach.answer(name, JSON.stringify(given));
  return text === '' ? null : (JSON.parse(text) as Json);
};

async function ask(call: CombinedCall, values: JsonObject, reach: Pick<Reach, 'answer'>): Promise<Json> {
  const fill = (template: Json) => fillTemplate(template, values);
  if ('records' in call) {
    if ('read' in call) return through(reach, 'records.read', [call.records, fill(call.read)]);
    if ('list' in call) return through(reach, 'records.list', [call.records, fill(call.list)]);
    return through(reach, 'records.summary', [call.records, fill(call.summary)]);
  }
  const { upstream, path, method = 'GET', query = {}, body, pages } = call;
  const options = { method, query: fill(query) as JsonObject, ...(body === undefined ? {} : { body: fill(body) }) };
  const place = encodePath(path, values);
  if (!pages) return askUpstream(reach, upstream, place, options);
  const items: Json[] = [];
  let next: Json = null;
  for (let page = 0; page < Math.min(pages.most ?? MOST_PAGES, MOST_PAGES); page++) {
    const asked = next === null ? options : { ...options, query: { ...options.query, [pages.as]: String(next) } };
    const answer = (await askUpstream(reach, upstream, place, asked)) as JsonObject;
    const more = valueAtPath(answer, pages.items);
    if (Array.isArray(more)) items.push(...more);
    next = valueAtPath(answer, pages.next);
    if (next === null || next === '') break;
  }
  return { items, more: next !== null && next !== '' };
}

/** What stands for a name in a path stays one part of it. */
const encodePath = (path: string, values: JsonObject): string =>
  path.replace(/\{([^{}]+)\}/g, (_, name: string) => encodeURIComponent(String(valueAtPath(values, name) ?? '')));

async function askUpstream(reach: Pick<Reach, 'answer'>, upstream: string, path: string, options: JsonObject): Promise<Json> {
  const { status, json, text } = (await through(reach, 'upstreams.call', [upstream, path, options])) as {
    status: number;
    json: Json;
    text: string;
  };
  if (status >= 300) throw new Error(`it answers ${status}`);
  return json ?? text;
}
