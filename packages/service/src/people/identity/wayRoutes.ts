/** Providers outside, as the team sets them up and checks them. */
import { type NewSignInWay, operations, Problem, type SignInWayDocument } from '@orchard/contract';
import { seal } from '../../platform/access/secrets.js';
import { bind, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { type OutsideWays, secretContext, type SignInWay, signInWays } from './outside.js';
import type { Parts } from './parts.js';

type Step = { what: string; ok: boolean; text: string };
const CLOCK_OFF_MS = 60_000;

export function wayRoutes(parts: Parts, outside: OutsideWays): Route[] {
  const own = operations.accounts;
  const present = (environment: Environment, name: string, { secret, ...way }: SignInWay): SignInWayDocument => ({
    name,
    ...way,
    hasSecret: secret !== null,
    redirectAddress: outside.redirectAddress(environment, name),
  });
  const find = async (environment: Environment, name: string): Promise<SignInWay> => {
    const way = (await signInWays.read(environment)).ways[name];
    if (!way) throw new Problem('not-found', `There is no way to sign in called \`${name}\`. \`orchard sign-in-way list\` lists them.`);
    return way;
  };
  const write = async (environment: Environment, how: (ways: Record<string, SignInWay>) => Record<string, SignInWay>) => {
    signInWays.forget(environment);
    const { ways } = await signInWays.read(environment);
    await signInWays.write(environment, { ways: how(ways) }, new Date(parts.now()));
  };
  const audited = {
    read: async (call: { environment: Environment | null; params: { way: string } }) => {
      const environment = environmentOf(call);
      const way = (await signInWays.read(environment)).ways[call.params.way];
      return way ? present(environment, call.params.way, way) : null;
    },
  };
  return [
    bind(own.ways, async (call) => {
      const environment = environmentOf(call);
      const { ways } = await signInWays.read(environment);
      return { body: { items: Object.entries(ways).map(([name, way]) => present(environment, name, way)) } };
    }),
    bind(
      own.putWay,
      async (call) => {
        const environment = environmentOf(call);
        const name = call.params.way;
        const before = (await signInWays.read(environment)).ways[name];
        const way = sealed(environment, name, call.body, before);
        await write(environment, (ways) => ({ ...ways, [name]: way }));
        return { body: present(environment, name, way) };
      },
      audited,
    ),
    bind(
      own.removeWay,
      async (call) => {
        const environment = environmentOf(call);
        await find(environment, call.params.way);
        await write(environment, ({ [call.params.way]: _gone, ...ways }) => ways);
        return { body: undefined };
      },
      audited,
    ),
    bind(own.checkWay, async (call) => {
      const environment = environmentOf(call);
      const steps = await check(outside, environment, call.params.way, await find(environment, call.params.way));
      return { body: { ok: steps.every(({ ok }) => ok), steps } };
    }),
  ];
}

function sealed(environment: Environment, name: string, { secret, ...way }: NewSignInWay, before: SignInWay | undefined): SignInWay {
  const kept = before?.secret ?? null;
  return { ...way, secret: secret === undefined ? kept : seal(environment.keys.data, secretContext(environment, name), secret) };
}

async function check(outside: OutsideWays, environment: Environment, name: string, way: SignInWay): Promise<Step[]> {
  const steps: Step[] = [];
  const failed = (what: string, text: string): Step[] => [...steps, { what, ok: false, text }];
  let metadata: ReturnType<Awaited<ReturnType<OutsideWays['discover']>>['serverMetadata']>;
  try {
    metadata = (await outside.discover(environment, name, way)).serverMetadata();
  } catch (error) {
    return failed('metadata', discoveryWords(error as Error & { code?: string }, way));
  }
  steps.push({ what: 'metadata', ok: true, text: `${metadata.issuer} says where people sign in: ${metadata.authorization_endpoint}` });
  if (metadata.code_challenge_methods_supported && !metadata.code_challenge_methods_supported.includes('S256'))
    return failed('code', 'The provider does not take the challenge of RFC 7636 with S256, without which a stolen code could be used.');
  const missing = way.scopes.filter((scope) => metadata.scopes_supported && !metadata.scopes_supported.includes(scope));
  if (missing.length > 0)
    return failed(
      'scopes',
      `The provider does not know the scopes ${missing.join(', ')}. It knows ${metadata.scopes_supported?.join(', ')}.`,
    );
  if (!way.scopes.includes('openid')) return failed('scopes', 'The scope openid is missing: without it, nothing says who signed in.');
  steps.push({ what: 'scopes', ok: true, text: way.scopes.join(', ') });
  const clockOffMs = await outside.clockOff(way.issuer);
  if (clockOffMs !== null && Math.abs(clockOffMs) > CLOCK_OFF_MS)
    return failed('clock', `The clock of the provider is ${Math.round(clockOffMs / 1000)} s off from ours: its tokens would be refused.`);
  const address = outside.redirectAddress(environment, name);
  return [...steps, { what: 'address', ok: true, text: `List ${address} at the provider as a redirect address of ${way.clientId}.` }];
}

function discoveryWords(error: Error & { code?: string }, { issuer }: SignInWay): string {
  if (error instanceof Problem) return error.detail;
  if (error.code === 'OAUTH_JSON_ATTRIBUTE_COMPARISON_FAILED')
    return `What answers there calls itself another issuer than ${issuer}. Enter the address exactly as the provider writes it.`;
  const cause = error.cause as { code?: string; message?: string } | undefined;
  const at = `${issuer}/.well-known/openid-configuration`;
  const isNetwork =
    error.name === 'TypeError' || error.name === 'TimeoutError' || /^(E[A-Z]+|PRIVATE_ADDRESS|UND_ERR)/.test(cause?.code ?? '');
  return isNetwork
    ? `${at} cannot be reached: ${cause?.message ?? error.message}.`
    : `No OpenID provider answers at ${at}: ${error.message}.`;
}
