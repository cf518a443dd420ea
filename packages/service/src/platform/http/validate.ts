/** Reads and validates the input of a call: parameters, query and body. */
import { promisify } from 'node:util';
import { type AnyOperation, expectedOf, Problem } from '@orchard/contract';
import { type FieldProblem, type Json, describeValue, jsonFault, nearest } from '@orchard/core';
import express, { type Request, type Response } from 'express';
import type { z } from 'zod';
import type { Call } from '../call.js';

const MAX_BODY = 1_000_000;
type ParseBody = (request: Request, response: Response) => Promise<void>;
const parsers = new Map<number, ParseBody>();
function parserOf(limit: number): ParseBody {
  let parser = parsers.get(limit);
  if (!parser) {
    parser = promisify(express.json({ limit, strict: false, type: ['application/json', 'application/*+json'] })) as ParseBody;
    parsers.set(limit, parser);
  }
  return parser;
}

/** How long a JSON body may take in all, and how long one that is read as a stream may stand still. */
const [JSON_WITHIN_MS, STILL_MS] = [60_000, 120_000];

/** Ends a call whose body stands still. */
function boundStillness({ request, response }: Call): void {
  const { socket } = request;
  const end = () => request.destroy();
  socket.setTimeout(STILL_MS, end);
  response.once('close', () => {
    socket.setTimeout(0);
    socket.off('timeout', end);
  });
}

/** Reads the body as JSON, where the operation has one. @throws {Problem} malformed-json, body-too-large, unsupported-media-type */
export async function readBody(call: Call): Promise<void> {
  if (call.operation.rawBody) boundStillness(call);
  if (!call.operation.body) return;
  // The parser reads an absent body as an empty object.
  if (
    call.headers['content-length'] === '0' ||
    (call.headers['content-length'] === undefined && call.headers['transfer-encoding'] === undefined)
  )
    return;
  const late = setTimeout(() => call.request.destroy(), JSON_WITHIN_MS);
  try {
    await parserOf(call.operation.bodyLimit ?? MAX_BODY)(call.request, call.response);
  } catch (error) {
    throw bodyProblem(error as { type?: string; message: string }, call.operation.bodyLimit ?? MAX_BODY);
  } finally {
    clearTimeout(late);
  }
  if (call.request.body === undefined && Number(call.headers['content-length'] ?? 0) > 0) {
    throw new Problem(
      'unsupported-media-type',
      `The body came as ${call.headers['content-type'] ?? 'no media type'}. Send \`Content-Type: application/json\`.`,
    );
  }
  const fault = jsonFault((call.request.body ?? null) as Json);
  if (fault)
    throw new Problem('invalid-input', `The body cannot be processed. ${fault}`, {
      fields: [{ path: 'body', problem: fault, expected: 'flatter JSON of well-formed Unicode' }],
    });
}

function bodyProblem(error: { type?: string; status?: number; code?: string; message: string }, limit: number): unknown {
  // An invalid content coding: zlib errors have a code and no type.
  if (error.type === undefined && (error.status === 400 || error.code?.startsWith('Z_') || error.code?.startsWith('ERR_')))
    return new Problem('malformed-json', `The body does not match its Content-Encoding: ${error.message}.`);
  switch (error.type) {
    case 'entity.parse.failed':
      // The parser's message quotes the body, which may contain a password.
      return new Problem('malformed-json', `The body cannot be read as JSON: ${error.message.replace(/(, (\.\.\.)?)?".*$/s, '')}.`);
    case 'entity.too.large':
      return new Problem('body-too-large', `The body is over ${limit / 1_000_000} MB. Send less in one call.`);
    case 'encoding.unsupported':
    case 'charset.unsupported':
      return new Problem('unsupported-media-type', `${error.message}. Send UTF-8, without content coding or with gzip.`);
    case 'request.aborted':
    case 'request.size.invalid':
      return new Problem('malformed-json', 'The body ended before its Content-Length. Send it again.');
    default:
      return error.status && error.status < 500 ? new Problem('malformed-json', `The body cannot be read: ${error.message}.`) : error;
  }
}

/** Checks everything against the operation's schemas. @throws {Problem} invalid-input, with every field that does not fit */
export function validate(call: Call): void {
  const { operation, request } = call;
  const fields: FieldProblem[] = [];
  call.params = check(operation.params, joined(request.params), 'path', fields) as never;
  call.query = check(operation.query, request.query, 'query', fields) as never;
  if (operation.body) call.body = check(operation.body, request.body, 'body', fields) as never;
  if (fields.length > 0) throw new Problem('invalid-input', summary(operation, fields), { fields });
}

/** @throws {Problem} invalid-input */
export function validateBody(operation: AnyOperation, body: unknown): unknown {
  const fields: FieldProblem[] = [];
  const checked = operation.body ? check(operation.body, body, 'body', fields) : undefined;
  if (fields.length > 0) throw new Problem('invalid-input', summary(operation, fields), { fields });
  return checked;
}

/** A parameter of several segments comes as a list of them. */
function joined(params: Request['params']): Record<string, string> {
  return Object.fromEntries(
    Object.entries(params).map(([name, value]) => [name, Array.isArray(value) ? value.join('/') : (value as string)]),
  );
}

function summary(operation: AnyOperation, fields: FieldProblem[]): string {
  const first = fields[0] as FieldProblem;
  const more = fields.length > 1 ? ` And ${fields.length - 1} more, see \`fields\`.` : '';
  return `\`${first.path}\` of ${operation.method} ${operation.path}: ${first.problem}${more}`;
}

/** Names in a request can be long. */
const shortened = (name: string) => (name.length > 60 ? `${name.slice(0, 60)}…` : name);
const MOST_SUGGESTED = 5;

/** The most errors that are reported for one request. */
const MOST_PROBLEMS = 50;

function check(schema: z.ZodType, value: unknown, where: string, fields: FieldProblem[]): unknown {
  const result = schema.safeParse(value);
  if (result.success) return result.data;
  for (const issue of result.error.issues) {
    if (fields.length >= MOST_PROBLEMS) break;
    fields.push(...describeIssue(issue, where, value, namesOf(schema)).slice(0, MOST_PROBLEMS - fields.length));
  }
  return undefined;
}

/** What is wrong with a part of a request that has a schema of its own. */
export function problemsOf(schema: z.ZodType, value: unknown, where: string): FieldProblem[] {
  const fields: FieldProblem[] = [];
  check(schema, value, where, fields);
  return fields;
}

const namesOf = (schema: z.ZodType): string[] => ('shape' in schema ? Object.keys(schema.shape as object) : []);

/** @param names those that are known at the outermost level, for suggestions */
function describeIssue(issue: z.core.$ZodIssue, where: string, whole: unknown, names: readonly string[] = []): FieldProblem[] {
  const path = [where, ...issue.path.map(String)].join('.');
  const value = valueAt(whole, issue.path);
  if (issue.code === 'unrecognized_keys') {
    const known = issue.path.length === 0 ? names : [];
    return issue.keys.slice(0, MOST_PROBLEMS).map((key, i) => ({
      path: `${path}.${key}`,
      problem: `Unknown ${where === 'query' ? 'query parameter' : 'field'} \`${shortened(key)}\`${(i < MOST_SUGGESTED && nearest(key, known)) || '.'}`,
      expected: 'the request without it',
    }));
  }
  if (issue.code === 'invalid_union') return describeUnion(issue, path, where, whole);
  const expected = expectedOf(issue);
  if (value === undefined) return [{ path, problem: 'It is required.', expected }];
  // A response must not repeat a password, not even a refused one; a key may have been sent in place of a certificate.
  const got = /password|token|key|trust|secret|certificate|code/i.test(path) ? '' : `; got ${describeValue(value as Json)}`;
  return [{ path, problem: `Must be ${expected}${got}.`, expected }];
}

/** Reports errors of the nearest alternative: the one with the fewest unknown or missing members. */
function describeUnion(issue: z.core.$ZodIssueInvalidUnion, path: string, where: string, whole: unknown): FieldProblem[] {
  const nearest = [...issue.errors].sort((a, b) => weight(a) - weight(b))[0];
  if (!nearest || weight(nearest) > 2)
    return [{ path, problem: 'Must be one of the forms in /openapi.json.', expected: 'one of the forms in /openapi.json' }];
  return nearest.flatMap((inner) => describeIssue({ ...inner, path: [...issue.path, ...inner.path] }, where, whole));
}

const weight = (issues: z.core.$ZodIssue[]) =>
  issues.reduce((sum, issue) => sum + (issue.code === 'unrecognized_keys' ? issue.keys.length : 1), 0);

function valueAt(whole: unknown, path: PropertyKey[]): unknown {
  return path.reduce<unknown>(
    (at, key) =>
      at === null || at === undefined ? undefined : Object.hasOwn(Object(at), key) ? (at as Record<PropertyKey, unknown>)[key] : undefined,
    whole,
  );
}
