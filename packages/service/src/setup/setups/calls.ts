/** The calls by which a setup is read and changed: those of members, made by the service in a member's name. */
import { type AnyOperation, Problem, type ReplyOf } from '@orchard/contract';
import { orNone } from '../../platform/audit/audit.js';
import type { Environment, SignedInMember } from '../../platform/call.js';
import type { ReadInput, Reader } from '../../platform/ports.js';
import type { Parts } from './parts.js';

export type SetupCalls = {
  read: <O extends AnyOperation>(operation: O, input?: ReadInput) => Promise<ReplyOf<O>>;
  write: <O extends AnyOperation>(operation: O, input?: ReadInput) => Promise<ReplyOf<O>>;
  /** The value of a secret of the environment. @throws {CallRefused} where there is none */
  secret: (name: string) => Promise<string>;
};

/** The calls in another environment, with the role that the member has there. @throws {Problem} not-found */
export async function callsThere(parts: Parts, member: SignedInMember, app: string, name: string): Promise<SetupCalls> {
  const other = await orNone(parts.directory.environment(app, name));
  const role = other && (await parts.members.roleIn(member, other.id));
  if (!other || !role) throw new Problem('not-found', `There is no environment ${app}/${name} that you have a role in.`);
  return callsOf(parts, other, { member, role });
}

export const callsOf = (parts: Parts, environment: Environment, reader: Reader): SetupCalls => ({
  read: (operation, input = {}) => parts.ports.readAs(operation, reader, environment, input),
  write: (operation, input = {}) => parts.ports.callAs(operation, reader, environment, input),
  secret: (name) => parts.functionPorts.secret(environment, name),
});
