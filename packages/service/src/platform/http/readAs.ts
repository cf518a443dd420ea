/** Reading calls that the service makes on behalf of a member: with that member's rights, and without HTTP. */
import { Problem } from '@orchard/contract';
import { roleReaches } from '../access/memberDirectory.js';
import type { Call, Route } from '../call.js';
import type { Platform } from '../platform.js';
import type { Ports } from '../ports.js';
import { AnswerBytes } from './answerBytes.js';
import { validate } from './validate.js';

/** @param routes all that are served */
export function readerOf(parts: Platform, routes: readonly Route[]): Ports['readAs'] {
  const byId = new Map(routes.map((route) => [route.operation.id, route]));
  return async (operation, { member, role }, environment, { params = {}, query = {}, body }) => {
    const route = byId.get(operation.id);
    const { caller, method, changes } = operation;
    // A question can be too long for an address; it changes nothing.
    const isReading = method === 'GET' || changes === 'nothing';
    if (!route || !isReading || caller.kind !== 'member') throw new Error(`${operation.id} is no reading call of members`);
    if (!roleReaches(role, caller.role))
      throw new Problem('role-insufficient', `This needs the role ${caller.role}; the reader's is ${role}.`);
    const at = parts.now();
    const place = environment && operation.path.includes('{environment}') ? { app: environment.app, environment: environment.name } : {};
    const request = { params: { ...place, ...params }, query, body, originalUrl: operation.path, headers: {}, ip: '' };
    const call = {
      id: parts.newId(),
      operation,
      request,
      response: { setHeader: () => undefined, appendHeader: () => undefined, once: () => undefined },
      headers: {},
      at,
      cost: { databaseUs: 0, statements: 0, sent: [] },
      spans: [],
      bytes: new AnswerBytes(parts.answers, () => member.id),
      holder: null,
      user: null,
      member,
      role,
      heldBack: false,
      environment,
      problem: null,
    } as unknown as Call;
    validate(call);
    await parts.actors.refresh();
    const answer = await route.handle(call);
    if (answer === 'streaming') throw new Error(`${operation.id} answers with a stream`);
    return answer.body;
  };
}
