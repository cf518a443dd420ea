/** One question in several environments: each is asked as the member would ask it there, one after another. */
import { type AcrossReply, type BodyOf, operations, Problem } from '@orchard/contract';
import { visibleEnvironments } from '../../platform/access/visibleEnvironments.js';
import type { Environment, SignedInMember } from '../../platform/call.js';
import type { Parts } from './parts.js';
import type { Watch } from './asking.js';

type Body = BodyOf<(typeof operations)['insight']['across']>;
/** What one environment cannot answer and another can, such as a filter over a property that never came there. */
const OWN_TO_ONE = new Set(['malformed-filter', 'not-found']);

/** @throws {Problem} not-found for an environment that the member may not see; invalid-input for a question that is none */
export async function askAcross(parts: Parts, member: SignedInMember, body: Body, { signal, progress }: Watch): Promise<AcrossReply> {
  const environments = chosen(await visibleEnvironments(parts, member), body.environments);
  const items: AcrossReply['items'] = [];
  for (const [done, environment] of environments.entries()) {
    progress?.({ done, total: environments.length });
    signal?.throwIfAborted();
    items.push({ app: environment.app, environment: environment.name, ...(await answerIn(parts, member, environment, body)) });
  }
  return { items };
}

function chosen(visible: readonly Environment[], wanted: readonly string[] | undefined): Environment[] {
  const byName = new Map(visible.map((environment) => [`${environment.app}/${environment.name}`, environment]));
  return [...new Set(wanted ?? byName.keys())].map((name) => {
    const environment = byName.get(name);
    if (!environment)
      throw new Problem('not-found', `There is no environment ${name} that you may see. \`orchard environment list\` lists them.`);
    return environment;
  });
}

async function answerIn(parts: Parts, member: SignedInMember, environment: Environment, { question, body }: Body) {
  const role = await parts.members.roleIn(member, environment.id);
  if (!role) throw new Problem('not-found', `There is no environment ${environment.app}/${environment.name} that you may see.`);
  try {
    return { answer: await parts.ports.readAs(operations.insight[question], { member, role }, environment, { body }), refused: null };
  } catch (error) {
    if (error instanceof Problem && OWN_TO_ONE.has(error.problem)) return { answer: null, refused: error.detail };
    throw error;
  }
}
