/**
 * Endpoints without code: several calls, in parallel where they can be, whose answers are mapped and joined by templates.
 *
 *   { "calls": {
 *       "hut": { "records": "huts", "read": "{params.hut}" },
 *       "weather": { "upstream": "weather", "path": "/forecasts/{hut.id}", "failing": { "instead": { "sky": "unknown" } } },
 *       "prices": { "upstream": "payments", "path": "/prices", "pages": { "items": "items", "next": "next", "as": "cursor" } } },
 *     "answer": { "name": "{hut.name}", "sky": "{weather.sky}", "prices": "{prices.items}" } }
 */
import { isPlainObject, type Json, type JsonObject } from './json.js';
import { namesIn, templateProblem } from './jsonTemplate.js';

/** What happens when a call fails: the whole is refused, the answer goes without it, or something stands in for it. */
export type Failing = 'refuse' | 'without' | { instead: Json };
/** An upstream whose answers come in pages: where items and the next place are, and the parameter that takes it. */
export type Pages = { items: string; next: string; as: string; most?: number };
export type CombinedCall =
  | { records: string; read: string; failing?: Failing }
  | { records: string; list: JsonObject; failing?: Failing }
  | { records: string; summary: JsonObject; failing?: Failing }
  | { upstream: string; path: string; method?: string; query?: JsonObject; body?: Json; pages?: Pages; failing?: Failing };
export type Combined = { calls: Record<string, CombinedCall>; answer: Json; status?: number; headers?: Record<string, string> };

/** What stands there without a call. */
export const GIVEN = ['params', 'query', 'body', 'caller'] as const;
const MOST_CALLS = 20;
const NAME = /^[A-Za-z_]\w{0,40}$/;
const MEMBERS = {
  records: ['records', 'read', 'list', 'summary', 'failing'],
  upstream: ['upstream', 'path', 'method', 'query', 'body', 'pages', 'failing'],
} as const;

/** What is wrong with a document, and where; null for a sound one. */
export function combinedProblem(document: unknown): string | null {
  if (!isPlainObject(document)) return 'It is no object.';
  const { calls, answer, ...other } = document as JsonObject;
  const unknown = Object.keys(other).find((name) => name !== 'status' && name !== 'headers');
  if (unknown) return `It has no member \`${unknown}\`: it takes calls, answer, status and headers.`;
  if (!isPlainObject(calls)) return '`calls` is no object.';
  const names = Object.keys(calls);
  if (names.length === 0 || names.length > MOST_CALLS) return `It makes ${names.length} calls; it takes 1 to ${MOST_CALLS}.`;
  for (const [name, call] of Object.entries(calls)) {
    const problem = callProblem(name, call);
    if (problem) return problem;
  }
  if (answer === undefined) return 'It has no `answer`.';
  const wrong = templateProblem(answer as Json);
  if (wrong) return `Its answer is not sound: ${wrong}.`;
  const known = new Set<string>([...GIVEN, ...names]);
  for (const [where, part] of [
    ...Object.entries(calls).map(([name, call]) => [`calls.${name}`, call] as const),
    ['answer', answer] as const,
  ])
    for (const used of namesIn(part as Json))
      if (!known.has(used)) return `${where} uses {${used}}, which is no call and nothing that is given: ${[...known].join(', ')}.`;
  return 'order' in orderOf(calls as never) ? null : 'Its calls wait for each other in a circle.';
}

function callProblem(name: string, call: unknown): string | null {
  const at = `calls.${name}`;
  if (!NAME.test(name) || (GIVEN as readonly string[]).includes(name))
    return `${at}: a name is letters, digits and _, and none of ${GIVEN.join(', ')}.`;
  if (!isPlainObject(call)) return `${at} is no object.`;
  const kind = 'records' in call ? 'records' : 'upstream' in call ? 'upstream' : null;
  if (!kind || typeof (call as JsonObject)[kind] !== 'string') return `${at} names neither \`records\` nor an \`upstream\`.`;
  const other = Object.keys(call).find((member) => !(MEMBERS[kind] as readonly string[]).includes(member));
  if (other) return `${at} has no member \`${other}\`: it takes ${MEMBERS[kind].join(', ')}.`;
  if (kind === 'records' && Number('read' in call) + Number('list' in call) + Number('summary' in call) !== 1)
    return `${at} needs one of read, list and summary.`;
  if (kind === 'upstream' && typeof (call as JsonObject).path !== 'string') return `${at} has no \`path\`.`;
  const { failing } = call as { failing?: unknown };
  if (failing !== undefined && failing !== 'refuse' && failing !== 'without' && !(isPlainObject(failing) && 'instead' in failing))
    return `${at}.failing is refuse, without, or {"instead": …}.`;
  return null;
}

/** Rounds of calls: each needs only answers of rounds before it. */
export function orderOf(calls: Readonly<Record<string, CombinedCall>>): { order: string[][] } | { circle: string[] } {
  const names = Object.keys(calls);
  const needs = new Map(names.map((name) => [name, [...namesIn(calls[name] as unknown as Json)].filter((used) => names.includes(used))]));
  const done = new Set<string>();
  const order: string[][] = [];
  while (done.size < names.length) {
    const round = names.filter((name) => !done.has(name) && needs.get(name)?.every((used) => done.has(used)));
    if (round.length === 0) return { circle: names.filter((name) => !done.has(name)) };
    order.push(round);
    for (const name of round) done.add(name);
  }
  return { order };
}
