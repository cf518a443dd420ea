import { type Gateway, type GatewayCheck, gatewayMapping, newGateway, type NewGateway, operations, Problem } from '@orchard/contract';
import { type JsonObject, mergePatch } from '@orchard/core';
import { CompiledMapping, type GatewayMapping, MappingError, trySample } from '@orchard/core/reach';
import { AppStore } from '../../setup/apps/store.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { authorOf, bind, type Environment, environmentOf, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';
import { type ClientFacts, readClientCertificate, readServiceAccount, readSigningKey } from './credentials.js';
import { watchExpiry } from './expiry.js';
import type { Secrets } from './gatewayDirectory.js';
import { credentialText, type GatewayFacts, readinessOf } from './readiness.js';
import type { GatewayRow } from './store.js';
import { WEB_PUSH } from './webPush.js';

type Credential = { secrets: Secrets; text: string; expiresAt: Date | null; project?: string };
type CredentialInput = { certificate?: string | undefined; keyFile?: string | undefined; password?: string | undefined };

export function gatewayRoutes(parts: Parts): Route[] {
  const own = operations.gateways;
  const { store } = parts.gateways;
  const apps = new AppStore(parts);

  async function named(environment: Environment, name: string): Promise<GatewayRow> {
    const row = await store.find(environment.id, name);
    if (!row)
      throw new Problem(
        'not-found',
        `There is no gateway ${name} in ${environment.app}/${environment.name}. \`orchard gateway list\` shows those there are.`,
      );
    return row;
  }
  async function clientFacts(environment: Environment, name: string | null): Promise<ClientFacts> {
    if (!name) return { name: '', storeId: null, project: null };
    const { storeId, project } = await apps.client(environment, name);
    return { name, storeId, project };
  }
  /** A credential goes only where it cannot be read on the way. */
  function demandSafe(address: string, path: string): void {
    const { protocol, origin } = new URL(address);
    if (protocol === 'https:' || parts.config.pushOrigins.includes(origin)) return;
    throw new Problem(
      'invalid-input',
      `${origin} is not https: the credential could be read on the way. For a network on this machine, name its origin in ORCHARD_PUSH_ORIGINS.`,
      {
        fields: [{ path, problem: 'It is not https.', expected: 'an https address' }],
      },
    );
  }
  function readCredential(
    kind: string,
    stage: string,
    settings: JsonObject,
    input: CredentialInput,
    mapping: GatewayMapping | null,
    client: ClientFacts,
  ): Credential {
    if (kind === 'certificate') {
      const file = Buffer.from(input.certificate ?? '', 'base64');
      const { key, certificates, text, expiresAt } = readClientCertificate(
        file,
        input.password ?? '',
        mapping as GatewayMapping,
        client,
        stage,
        parts.now(),
      );
      return { secrets: { kind: 'certificate', key, certificates }, text, expiresAt };
    }
    if (kind !== 'token')
      return {
        secrets: { kind: 'password', password: input.password ?? '' },
        text: input.password ? 'A password.' : 'No password.',
        expiresAt: null,
      };
    const token = mapping?.token;
    if (token?.by === 'exchanged') {
      const account = readServiceAccount(input.keyFile ?? '', token, client);
      demandSafe(account.tokenAddress, 'body.keyFile');
      return {
        secrets: { kind: 'token', account },
        text: `Service account ${account.account} of project ${account.project}.`,
        expiresAt: null,
        project: account.project,
      };
    }
    const key = readSigningKey(input.keyFile ?? '');
    const pem = key.export({ type: 'pkcs8', format: 'pem' }) as string;
    return {
      secrets: { kind: 'token', key: pem },
      text: `Signing key${settings.keyId ? ` ${settings.keyId}` : ''} on P-256.`,
      expiresAt: null,
    };
  }
  async function facts(environment: Environment, rows: GatewayRow[]): Promise<Map<string, GatewayFacts>> {
    const [clients, { devices, lastDay }] = await Promise.all([apps.listClients(environment), parts.gatewayPorts.use(environment, rows)]);
    const found = new Map<string, GatewayFacts>();
    for (const row of rows) {
      const client = clients.find(({ name }) => name === row.client);
      const counted = devices.find(({ gateway }) => gateway === row.name);
      const said = lastDay.filter(({ gateway }) => gateway === row.name);
      const sum = (...states: string[]) =>
        said.filter(({ state }) => states.includes(state)).reduce((total, { count }) => total + Number(count), 0);
      const mapping = row.mappingVersion ? await store.mapping(row.id, row.mappingVersion) : null;
      const latest = said.map(({ at }) => at.getTime());
      found.set(row.name, {
        client: client ? { storeId: client.storeId, project: client.project } : null,
        devices: ['smpp', 'http', 'smtp'].includes(row.kind)
          ? null
          : { registered: Number(counted?.registered ?? 0), reachable: Number(counted?.reachable ?? 0) },
        mapping: mapping && { version: row.mappingVersion, title: mapping.title },
        keys: row.kind === WEB_PUSH ? await parts.webPush.describe(environment.id) : [],
        lastDay: {
          accepted: sum('accepted', 'arrived'),
          failed: sum('failed'),
          lastAnswerAt: latest.length ? new Date(Math.max(...latest)).toISOString() : null,
        },
      });
    }
    return found;
  }
  function present(row: GatewayRow, known: GatewayFacts): Gateway {
    const { credential: _hidden, ...settings } = storedJson(row.settings);
    const shown = { ...row, check: row.check && storedJson(row.check) };
    const readiness = readinessOf(shown, known, parts.now());
    return {
      name: row.name,
      kind: row.kind as Gateway['kind'],
      stage: row.stage as Gateway['stage'],
      client: row.client,
      settings,
      credential: {
        text: credentialText({ ...row, settings: storedJson(row.settings) }, known),
        expiresAt: row.expiresAt?.toISOString() ?? null,
      },
      mapping: known.mapping,
      readiness,
      ready: readiness.every(({ ready }) => ready),
      check: shown.check as GatewayCheck | null,
      lastDay: known.lastDay,
      createdAt: row.createdAt.toISOString(),
      updatedAt: row.updatedAt.toISOString(),
    };
  }
  async function shown(environment: Environment, name: string): Promise<Gateway> {
    parts.gateways.forget(environment.id);
    const rows = await parts.gateways.rows(environment.id);
    const row = rows.find((one) => one.name === name) ?? (await named(environment, name));
    return present(row, (await facts(environment, rows)).get(name) as GatewayFacts);
  }
  async function create(environment: Environment, body: NewGateway, by: string): Promise<Gateway> {
    const client = await clientFacts(environment, 'client' in body ? body.client : null);
    const mapping = 'mapping' in body ? (body.mapping as GatewayMapping) : null;
    if (mapping) demandMapping(mapping, body.kind);
    if ('address' in body.settings) demandSafe(body.settings.address, 'body.settings.address');
    const settings = body.settings as JsonObject;
    const credential = readCredential(body.kind, body.stage, settings, body, mapping, client);
    const now = new Date(parts.now());
    const identity = { environmentId: environment.id, name: body.name };
    const row: GatewayRow = {
      ...identity,
      id: parts.newId(),
      kind: body.kind,
      stage: body.stage,
      client: client.name || null,
      settings: { ...settings, credential: credential.text },
      sealed: parts.gateways.seal(identity, credential.secrets),
      expiresAt: credential.expiresAt,
      checkedAt: null,
      check: null,
      refusedAt: null,
      refusal: null,
      mappingVersion: mapping ? 1 : 0,
      createdAt: now,
      updatedAt: now,
    };
    await store.insert(row, mapping && { document: mapping, by });
    await watchExpiry(parts, [environment]);
    // The first account tells the project; a later one of another is refused.
    if (credential.project && !client.project) await apps.changeClient(environment, client.name, { project: credential.project });
    return shown(environment, body.name);
  }
  async function change(
    environment: Environment,
    name: string,
    body: CredentialInput & { settings?: JsonObject | undefined },
  ): Promise<Gateway> {
    const row = await named(environment, name);
    if (row.kind === WEB_PUSH)
      throw new Problem('wrong-state', 'Web push has no settings or credential of its own; its key is changed by rotating it.');
    const { credential: known, ...before } = storedJson(row.settings);
    const settings = checkedSettings(row.kind, mergePatch(before, body.settings ?? {}) as JsonObject);
    if (typeof settings.address === 'string') demandSafe(settings.address, 'body.settings.address');
    const given = body.certificate !== undefined || body.keyFile !== undefined || body.password !== undefined;
    const mapping = row.mappingVersion ? await store.mapping(row.id, row.mappingVersion) : null;
    const credential = given
      ? readCredential(row.kind, row.stage, settings, body, mapping, await clientFacts(environment, row.client))
      : null;
    await store.update(row.id, {
      settings: { ...settings, credential: credential?.text ?? (known as string) },
      ...(credential ? { sealed: parts.gateways.seal(row, credential.secrets), expiresAt: credential.expiresAt } : {}),
      check: null,
      checkedAt: null,
      updatedAt: new Date(parts.now()),
    });
    await parts.refusals.clear(row);
    await parts.gatewayPorts.mended(environment, name);
    return shown(environment, name);
  }
  async function check(environment: Environment, name: string): Promise<GatewayCheck> {
    const row = await named(environment, name);
    parts.gateways.forget(environment.id);
    const opened = await parts.gateways.open(environment.id, name);
    const steps = (await opened?.sender.check()) ?? [];
    const result = { ok: steps.every(({ ok }) => ok), at: new Date(parts.now()).toISOString(), steps };
    await store.update(row.id, { check: result as unknown as JsonObject, checkedAt: new Date(parts.now()) });
    parts.gateways.forget(environment.id);
    return result;
  }

  return [
    bind(own.list, async (call) => {
      const environment = environmentOf(call);
      const rows = await store.ofEnvironment(environment.id);
      const known = await facts(environment, rows);
      return { body: { items: rows.map((row) => present(row, known.get(row.name) as GatewayFacts)) } };
    }),
    bind(own.create, async (call) => ({ body: await create(environmentOf(call), call.body, authorOf(call)) })),
    bind(own.read, async (call) => ({ body: await shown(environmentOf(call), call.params.gateway) })),
    bind(own.patch, async (call) => ({ body: await change(environmentOf(call), call.params.gateway, call.body) })),
    bind(own.remove, async (call) => {
      const row = await named(environmentOf(call), call.params.gateway);
      if (row.kind === WEB_PUSH) throw new Problem('wrong-state', 'Every environment has its web push gateway; it cannot be removed.');
      await store.remove(row.id);
      parts.gateways.forget(environmentOf(call).id);
      parts.gateways.drop(row.id);
      return { body: undefined };
    }),
    bind(own.check, async (call) => ({ body: await check(environmentOf(call), call.params.gateway) })),
    bind(own.rotate, async (call) => {
      const row = await named(environmentOf(call), call.params.gateway);
      if (row.kind !== WEB_PUSH)
        throw new Problem('wrong-state', 'Only the key of web push is made here. Upload a new credential with PATCH instead.');
      await parts.webPush.rotate(environmentOf(call).id);
      return { body: await shown(environmentOf(call), row.name) };
    }),
    bind(own.mappings, async (call) => {
      const row = await named(environmentOf(call), call.params.gateway);
      const items = await store.mappings(row.id, call.query.limit);
      return { body: { items: items.map(presentMapping) } };
    }),
    bind(own.putMapping, async (call) => {
      const row = await named(environmentOf(call), call.params.gateway);
      if (!row.mappingVersion)
        throw new Problem('wrong-state', `A gateway of the kind ${row.kind} has no mapping: its protocol says what goes on the wire.`);
      demandMapping(call.body as GatewayMapping, row.kind);
      const before = (await store.mapping(row.id, row.mappingVersion)) as GatewayMapping;
      if (before.token?.by !== (call.body as GatewayMapping).token?.by)
        throw new Problem(
          'wrong-state',
          'The new mapping gets its token another way than the credential stored. Add a new gateway for it.',
        );
      const made = await store.addMapping(row, call.body as GatewayMapping, authorOf(call), new Date(parts.now()));
      parts.gateways.forget(environmentOf(call).id);
      return { body: presentMapping(made) };
    }),
  ];
}

const presentMapping = (row: { version: number; document: JsonObject; createdBy: string; createdAt: Date }) => ({
  version: row.version,
  document: gatewayMapping.parse(storedJson(row.document)),
  createdBy: row.createdBy,
  createdAt: row.createdAt.toISOString(),
});

/** Refuses a mapping that is for another kind, does not compile, or whose sample does not hold. @throws {Problem} mapping-refused */
function demandMapping(mapping: GatewayMapping, kind: string): void {
  const refuse = (problems: { at: string; problem: string }[]) =>
    new Problem(
      'mapping-refused',
      `The gateway mapping does not hold at ${problems.map(({ at }) => at).join(', ')}. ${problems[0]?.problem}`,
      {
        fields: problems.map(({ at, problem }) => ({ path: `body.mapping${at}`, problem, expected: 'see docs/gateways.md' })),
      },
    );
  if (mapping.for !== kind)
    throw refuse([{ at: '/for', problem: `The mapping is for gateways of the kind ${mapping.for}; this one is of the kind ${kind}.` }]);
  let compiled: CompiledMapping;
  try {
    compiled = new CompiledMapping(mapping);
  } catch (error) {
    if (error instanceof MappingError) throw refuse(error.problems);
    throw error;
  }
  const problems = trySample(compiled);
  if (problems.length) throw refuse(problems);
}

/** Settings that were merged must fit their kind as new ones do. @throws {Problem} invalid-input */
function checkedSettings(kind: string, settings: JsonObject): JsonObject {
  const option = newGateway.options.find(({ shape }) => shape.kind.value === kind);
  const result = option?.shape.settings.safeParse(settings);
  if (result?.success) return result.data as JsonObject;
  throw new Problem('invalid-input', 'The changed settings do not fit the gateway.', {
    fields: (result?.error.issues ?? []).map((issue) => ({
      path: `body.settings.${issue.path.join('.')}`,
      problem: issue.message,
      expected: issue.message,
    })),
  });
}
