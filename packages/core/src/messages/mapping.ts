/**
 * Gateway mappings: JSON documents that say how a message is sent to a push network or SMS centre, and how its response is
 * read. The service sends only what a mapping says. docs/gateways.md explains how to write one.
 */
import { analyseFilter } from '../filter/analyse.js';
import { type Condition, type FilterScope, flatScope, type ValueKind } from '../filter/condition.js';
import { compileEvaluator, type Evaluator } from '../filter/evaluate.js';
import { parseFilterText } from '../filter/text.js';
import { FilterError } from '../filter/tree.js';
import { isPlainObject, type Json, type JsonObject, mergePatch, own } from '../json.js';
import type { AnswerMeaning } from './answers.js';
import {
  compileDocument,
  type DocumentFiller,
  fillTemplate,
  followNames,
  type Known,
  MissingValue,
  parseTemplate,
  pointerNames,
  type Template,
  TemplateError,
  sentence,
  textsOf,
  unknownVariable,
  valueAt,
} from './template.js';

/** How to read a response: the first rule whose condition (CQL2) is true says what it means. */
export type AnswerRule = { if: string; is: AnswerMeaning };
export type MappedRequest = { method: 'POST' | 'PUT' | 'GET'; address: string; headers: Record<string, string>; body?: Json | undefined };
export type GatewayMapping = {
  /** Version of this format. */
  mapping: 1;
  title: string;
  /** What it is for: a gateway of this kind. */
  for: 'certificate' | 'token' | 'http';
  protocol: 'h2' | 'http/1.1';
  /** How the body is written; `form` is application/x-www-form-urlencoded. */
  encoding?: 'json' | 'form' | undefined;
  /** Most bytes of the body. */
  maxBytes: number;
  /** The network's own words for our values, named by templates as `words.<name>`: `of` is a variable. */
  words?: Record<string, { of: string; is: Record<string, string> }> | undefined;
  request: MappedRequest;
  /** Names for parts of an answer that conditions and `said` use: a JSON Pointer into its body, or `header:<name>`. */
  read?: Record<string, string> | undefined;
  answers: AnswerRule[];
  /** The names of `read` that hold the network's message id, and its message. */
  messageId?: string | undefined;
  said?: string | undefined;
  /** The member of `request.body` a gateway's overlay is merged into: a JSON Pointer. */
  overlayAt?: string | undefined;
  /** Kind `certificate` only: which part of its subject (RFC 4514: CN, UID, OU, …) names what. */
  certificate?: { packageIdentifier?: string | undefined; stage?: { in: string; trial: string; live: string } | undefined } | undefined;
  /** Kind `token` only: how the bearer token is obtained. */
  token?: MappedToken | undefined;
  sample: MappingSample;
};
/** `signed`: a JWT signed with the uploaded key. `exchanged`: RFC 7523 with a service account's key file. */
export type MappedToken =
  | { by: 'signed'; header?: Record<string, string> | undefined; claims: Record<string, Json>; lifeS: number }
  | {
      by: 'exchanged';
      scope?: string | undefined;
      lifeS: number;
      /** JSON Pointers to the parts of the key file. `type`, when given, is a member and the value it must have. */
      file: {
        type?: { at: string; is: string } | undefined;
        project: string;
        account: string;
        privateKey: string;
        keyId?: string | undefined;
        tokenAddress: string;
      };
    };
export type MappingSample = {
  values: JsonObject;
  request: { method: string; address: string; headers: Record<string, string>; body?: Json | undefined };
  answers: { status: number; headers?: Record<string, string> | undefined; body?: Json | undefined; is: AnswerMeaning }[];
};

/** What templates of a mapping may name. */
export const MAPPING_VARIABLES: { [name: string]: Known } = {
  notification: {
    id: true,
    title: true,
    body: true,
    badge: true,
    sound: true,
    picture: true,
    link: true,
    data: 'open',
    dataText: true,
    category: true,
    buttons: 'open',
    silent: true,
    priority: true,
    ttlS: true,
    expiresAtS: true,
    collapse: true,
    sentAt: true,
    shows: true,
    text: true,
  },
  device: { id: true, token: true, platform: true, locale: true, timeZone: true },
  client: { name: true, packageIdentifier: true, project: true },
  gateway: { stage: true, address: true, sender: true },
  delivery: { id: true },
  credential: { account: true, keyId: true, issuer: true, project: true },
  phone: { number: true, digits: true, country: true },
};
const TOKEN_VARIABLES: { [name: string]: Known } = {
  credential: MAPPING_VARIABLES.credential as Known,
  client: MAPPING_VARIABLES.client as Known,
  token: { issuedAtS: true, expiresAtS: true, audience: true },
};

/** Conditions over a response have no user. */
const NOBODY = { me: { id: null, roles: [] }, now: 0 };

export type Rendered = { method: string; url: URL; headers: Record<string, string>; body: string };

/** Where one part of a response is found: a header, or a path into its body. */
type AnswerPart = { name: string; header: string | null; names: string[] };

/** A mapping made ready: templates, pointers and conditions read once. */
export class CompiledMapping {
  readonly #rules: { is: AnswerMeaning; holds: Evaluator }[];
  readonly #address: Template;
  readonly #headers: { name: string; fill: DocumentFiller }[];
  readonly #body: DocumentFiller | null;
  readonly #words: { name: string; path: string[]; is: Record<string, string> }[];
  readonly #parts: AnswerPart[];
  /** Most messages of a network go to one address. */
  #latest: { text: string; url: URL } | null = null;

  /** @throws {MappingError} */
  constructor(readonly document: GatewayMapping) {
    const problems = mappingProblems(document);
    if (problems.length) throw new MappingError(problems);
    const { request, answers, words = {}, read = {} } = document;
    const scope = answerScope(document);
    this.#rules = answers.map((rule) => ({ is: rule.is, holds: compileEvaluator(conditionOf(rule.if, scope)) }));
    this.#address = parseTemplate(request.address);
    this.#headers = Object.entries(request.headers).map(([name, text]) => ({ name: name.toLowerCase(), fill: compileDocument(text) }));
    this.#body = request.body === undefined ? null : compileDocument(request.body);
    this.#words = Object.entries(words).map(([name, { of, is }]) => ({ name, path: of.split('.'), is }));
    this.#parts = Object.entries(read).map(([name, from]) =>
      from.startsWith('header:')
        ? { name, header: from.slice(7).toLowerCase(), names: [] }
        : { name, header: null, names: pointerNames(from) },
    );
  }

  /** The request for one message. @throws {MissingValue} */
  render(given: JsonObject, overlay?: JsonObject): Rendered {
    const { request, encoding = 'json', overlayAt } = this.document;
    const values = this.#withWords(given);
    const url = this.#urlOf(fillTemplate(this.#address, values, writeInAddress));
    const headers: Record<string, string> = {};
    for (const { name, fill } of this.#headers) {
      const value = fill(values);
      if (value !== undefined) headers[name] = String(value);
    }
    if (!this.#body) return { method: request.method, url, headers, body: '' };
    let body: Json = this.#body(values) ?? {};
    if (overlay) body = overlayInto(body, overlayAt ?? '', overlay);
    headers['content-type'] ??= encoding === 'form' ? 'application/x-www-form-urlencoded' : 'application/json';
    return { method: request.method, url, headers, body: encoding === 'form' ? asForm(body) : JSON.stringify(body) };
  }

  #urlOf(text: string): URL {
    if (this.#latest?.text !== text) this.#latest = { text, url: new URL(text) };
    return this.#latest.url;
  }

  #withWords(values: JsonObject): JsonObject {
    if (this.#words.length === 0) return values;
    const words: JsonObject = {};
    for (const { name, path, is } of this.#words) {
      const value = valueAt(values, path);
      const word = value === undefined ? undefined : own(is, String(value));
      if (word !== undefined) words[name] = word;
    }
    return { ...values, words };
  }

  /**
   * What a response means, with the network's id and message. A response that matches no rule is `refused`, or `later` from
   * 500.
   */
  readAnswer(
    status: number,
    headers: Record<string, string | undefined>,
    text: string,
  ): { is: AnswerMeaning; messageId: string | null; said: string | null } {
    const { messageId, said } = this.document;
    const body = asJson(text);
    const found: JsonObject = { status };
    for (const { name, header, names } of this.#parts) {
      const value = header === null ? followNames(body, names) : headers[header];
      if (value !== undefined) found[name] = typeof value === 'object' ? JSON.stringify(value) : String(value);
    }
    const rule = this.#rules.find(({ holds }) => holds(found, NOBODY) === true);
    const own = (name: string | undefined) => (name && found[name] !== undefined ? String(found[name]) : null);
    return { is: rule?.is ?? (status >= 500 ? 'later' : 'refused'), messageId: own(messageId), said: own(said) };
  }

  /** Header and claims of the token, filled. @throws {MissingValue} */
  tokenParts(values: JsonObject): { header: JsonObject; claims: JsonObject } {
    const { token } = this.document;
    if (token?.by !== 'signed') throw new Error('The mapping signs no token.');
    return {
      header: (compileDocument(token.header ?? {})(values) ?? {}) as JsonObject,
      claims: (compileDocument(token.claims)(values) ?? {}) as JsonObject,
    };
  }
}

/** What is wrong with a mapping, each with a JSON Pointer into it. */
export class MappingError extends Error {
  constructor(readonly problems: { at: string; problem: string }[]) {
    super(problems.map(({ at, problem }) => `${at}: ${problem}`).join(' '));
  }
}

function asForm(body: Json): string {
  const form = new URLSearchParams();
  for (const [name, value] of Object.entries(isPlainObject(body) ? body : {}))
    form.set(name, typeof value === 'object' ? JSON.stringify(value) : String(value));
  return form.toString();
}

function asJson(text: string): Json | undefined {
  try {
    return JSON.parse(text) as Json;
  } catch {
    return undefined;
  }
}

/** A value must not change the shape of an address it stands in; only the gateway's own address is written as it is. */
const writeInAddress = (text: string, path: readonly string[]) => (path[0] === 'gateway' ? text : encodeURIComponent(text));

function overlayInto(body: Json, pointer: string, overlay: JsonObject): Json {
  return mergePatch(
    body,
    pointerNames(pointer).reduceRight<JsonObject>((inner, name) => ({ [name]: inner }), overlay),
  );
}

const answerScope = (mapping: GatewayMapping): FilterScope =>
  flatScope(
    new Map<string, ValueKind>([
      ['status', 'number'],
      ...Object.keys(mapping.read ?? {}).map((name): [string, ValueKind] => [name, 'text']),
    ]),
  );
const conditionOf = (text: string, scope: FilterScope): Condition => analyseFilter(parseFilterText(text), scope);

/** Everything that is wrong with a mapping's templates, conditions and names; its shape was checked by a schema before. */
export function mappingProblems(mapping: GatewayMapping): { at: string; problem: string }[] {
  const found: { at: string; problem: string }[] = [];
  const checkText = (at: string, text: string, known: { [name: string]: Known }) => {
    try {
      const unknown = unknownVariable(parseTemplate(text), known);
      if (unknown) found.push({ at, problem: sentence(unknown) });
    } catch (error) {
      if (!(error instanceof TemplateError)) throw error;
      found.push({ at, problem: `${error.message}.` });
    }
  };
  const words = Object.entries(mapping.words ?? {});
  const variables = { ...MAPPING_VARIABLES, words: Object.fromEntries(words.map(([name]) => [name, true as const])) };
  for (const [name, { of }] of words) checkText(`/words/${name}/of`, `{${of}}`, MAPPING_VARIABLES);
  for (const { at, text } of textsOf(mapping.request as unknown as Json, '/request')) checkText(at, text, variables);
  if (mapping.token?.by === 'signed')
    for (const { at, text } of textsOf({ header: mapping.token.header ?? {}, claims: mapping.token.claims }, '/token'))
      checkText(at, text, TOKEN_VARIABLES);
  const scope = answerScope(mapping);
  for (const [i, rule] of mapping.answers.entries()) {
    try {
      conditionOf(rule.if, scope);
    } catch (error) {
      if (!(error instanceof FilterError)) throw error;
      found.push({ at: `/answers/${i}/if`, problem: `${error.message}.` });
    }
  }
  for (const [name, from] of Object.entries(mapping.read ?? {}))
    if (!from.startsWith('header:') && !(from === '' || from.startsWith('/')))
      found.push({ at: `/read/${name}`, problem: 'It is neither a JSON Pointer, such as /error/code, nor header:<name>.' });
  for (const member of ['messageId', 'said'] as const) {
    const name = mapping[member];
    if (name && !Object.hasOwn(mapping.read ?? {}, name)) found.push({ at: `/${member}`, problem: `\`read\` has no \`${name}\`.` });
  }
  if (mapping.for === 'token' && !mapping.token)
    found.push({ at: '/token', problem: 'A mapping for gateways of the kind token must define how the token is obtained.' });
  return found;
}

/**
 * Tests a mapping with its own sample: the request it builds, and how it reads the responses. Empty when all of it matches.
 */
export function trySample(compiled: CompiledMapping): { at: string; problem: string }[] {
  const { sample } = compiled.document;
  const found: { at: string; problem: string }[] = [];
  try {
    const made = compiled.render(sample.values);
    const wanted = sample.request;
    const expect = (at: string, is: unknown, should: unknown) => {
      const [left, right] = [sorted(is as Json), sorted(should as Json)];
      if (left !== right)
        found.push({
          at: `/sample/request/${at}`,
          problem: `The mapping makes ${left ?? 'nothing'}; the sample says ${right ?? 'nothing'}.`,
        });
    };
    expect('method', made.method, wanted.method);
    expect('address', made.url.href, URL.canParse(wanted.address) ? new URL(wanted.address).href : wanted.address);
    const { 'content-type': _type, ...headers } = made.headers;
    expect(
      'headers',
      headers,
      Object.fromEntries(
        Object.entries(wanted.headers)
          .filter(([name]) => name.toLowerCase() !== 'content-type')
          .map(([name, value]) => [name.toLowerCase(), value]),
      ),
    );
    if (wanted.body !== undefined || made.body)
      expect('body', typeof wanted.body === 'string' ? made.body : asJson(made.body), wanted.body);
  } catch (error) {
    const problem =
      error instanceof MissingValue ? error.message : error instanceof TypeError ? 'The address it makes is not a URL.' : null;
    if (!problem) throw error;
    found.push({ at: '/sample/values', problem });
  }
  for (const [i, answer] of sample.answers.entries()) {
    const headers = Object.fromEntries(Object.entries(answer.headers ?? {}).map(([name, value]) => [name.toLowerCase(), value]));
    const { is } = compiled.readAnswer(answer.status, headers, answer.body === undefined ? '' : JSON.stringify(answer.body));
    if (is !== answer.is) found.push({ at: `/sample/answers/${i}`, problem: `It is read as ${is}; the sample says ${answer.is}.` });
  }
  return found;
}

/** JSON with members in order, to compare documents whatever the order they were written in. */
function sorted(value: Json | undefined): string | undefined {
  return JSON.stringify(value, (_, member) =>
    isPlainObject(member) ? Object.fromEntries(Object.entries(member).sort(([a], [b]) => (a < b ? -1 : 1))) : member,
  );
}
