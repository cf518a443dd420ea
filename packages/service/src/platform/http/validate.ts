/** Reads and validates the input of a call: parameters, query and body. */
import { promisify } from 'node:util';
import { type AnyOperation, Problem } from '@orchard/contract';
import { checkInput as check } from '@orchard/contract/inputProblems';
import { type FieldProblem, type Json, jsonFault } from '@orchard/core';
import express, { type Request, type Response } from 'express';
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
