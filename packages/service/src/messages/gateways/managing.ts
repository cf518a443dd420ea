/** What the team does with gateways: add, change, check, remove, rotate a key, activate a mapping. */
import { type CredentialPreview, type Gateway, type GatewayCheck, type NewGateway, Problem } from '@orchard/contract';
import { type JsonObject, mergePatch } from '@orchard/core';
import type { GatewayMapping } from '@orchard/core/messages';
import type { Environment } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { AppStore } from '../../setup/apps/store.js';
import { type Credential, type CredentialInput, demandSafe, readCredential } from './credentialInput.js';
import type { ClientFacts } from './credentials.js';
import { watchExpiry } from './expiry.js';
import { sealSecrets } from './gatewayDirectory.js';
import { checkedSettings, demandMapping } from './mappingCheck.js';
import type { Parts } from './parts.js';
import { factsOf, presentGateway, presentMapping } from './presenting.js';
import type { GatewayFacts } from './readiness.js';
import { keyFor, removeSigningRequest } from './signingRequests.js';
import type { GatewayRow } from './store.js';
import { demandUnstranded, type Stranding, strandingOf } from './stranding.js';
import { WEB_PUSH } from './webPush.js';

/** @throws {Problem} not-found */
export async function gatewayNamed(parts: Parts, environment: Environment, name: string): Promise<GatewayRow> {
  const row = await parts.gateways.store.find(environment, name);
  if (!row)
    throw new Problem(
      'not-found',
      environment.app
        ? `There is no gateway ${name} in ${environment.app}/${environment.name}. \`orchard gateway list\` lists them.`
        : `The installation has no gateway ${name}. \`orchard installation-gateway list\` lists them.`,
    );
  return row;
}

export async function listGateways(parts: Parts, environment: Environment): Promise<Gateway[]> {
  const rows = await parts.gateways.store.all(environment);
  const known = await factsOf(parts, environment, rows);
  return rows.map((row) => presentGateway(row, known.get(row.name) as GatewayFacts, parts.now()));
}

/** One gateway, as it is now. @throws {Problem} not-found */
export async function showGateway(parts: Parts, environment: Environment, name: string): Promise<Gateway> {
  parts.gateways.forget(environment);
  const rows = await parts.gateways.rows(environment);
  const row = rows.find((one) => one.name === name) ?? (await gatewayNamed(parts, environment, name));
  return presentGateway(row, (await factsOf(parts, environment, rows)).get(name) as GatewayFacts, parts.now());
}

async function clientFacts(parts: Parts, environment: Environment, name: string | null): Promise<ClientFacts> {
  if (!name) return { name: '', packageIdentifier: null, project: null };
  const { packageIdentifier, project } = await new AppStore(parts).client(environment, name);
  return { name, packageIdentifier, project };
}

/** @throws {Problem} invalid-input, mapping-refused, already-exists; not-found for the client */
export async function addGateway(parts: Parts, environment: Environment, body: NewGateway, by: string): Promise<Gateway> {
  const client = await clientFacts(parts, environment, 'client' in body ? body.client : null);
  const mapping = 'mapping' in body ? (body.mapping as GatewayMapping) : null;
  if (mapping) demandMapping(mapping, body.kind);
  if ('address' in body.settings) demandSafe(parts.config, body.settings.address, 'body.settings.address');
  const settings = body.settings as JsonObject;
  const credential = await readCredential(parts, body.kind, body.stage, settings, body, mapping, client, (one) => keyFor(environment, one));
  const now = new Date(parts.now());
  const row: GatewayRow = {
    id: parts.newId(),
    name: body.name,
    kind: body.kind,
    stage: body.stage,
    client: client.name || null,
    settings: { ...settings, credential: credential.text },
    sealed: sealSecrets(environment, body.name, credential.secrets),
    expiresAt: credential.expiresAt,
    checkedAt: null,
    check: null,
    refusedAt: null,
    refusal: null,
    mappingVersion: mapping ? 1 : 0,
    createdAt: now,
    updatedAt: now,
  };
  await parts.gateways.store.insert(environment, row, mapping && { document: mapping, by });
  if (credential.request) await removeSigningRequest(environment, credential.request);
  await watchExpiry(parts, environment);
  // The first account sets the project; a later one of another project is refused.
  if (credential.project && !client.project)
    await new AppStore(parts).changeClient(environment, client.name, { project: credential.project });
  return showGateway(parts, environment, body.name);
}

export type GatewayChanges = CredentialInput & { settings?: JsonObject | undefined; strandDevices?: boolean | undefined };

type Changed = { row: GatewayRow; settings: JsonObject; credential: Credential | null; stranding: Stranding };

/** What a change would make of a gateway. @throws {Problem} not-found, wrong-state for web push, invalid-input, credential-refused */
async function changed(parts: Parts, environment: Environment, name: string, body: GatewayChanges): Promise<Changed> {
  const { store } = parts.gateways;
  const row = await gatewayNamed(parts, environment, name);
  if (row.kind === WEB_PUSH)
    throw new Problem('wrong-state', 'Web push has no settings or credential of its own; its key is changed by rotating it.');
  const { credential: _, ...before } = storedJson(row.settings);
  const settings = checkedSettings(row.kind, mergePatch(before, body.settings ?? {}) as JsonObject);
  if (typeof settings.address === 'string') demandSafe(parts.config, settings.address, 'body.settings.address');
  const given = body.certificate !== undefined || body.keyFile !== undefined || body.password !== undefined;
  const mapping = row.mappingVersion ? await store.mapping(environment, row.id, row.mappingVersion) : null;
  const client = await clientFacts(parts, environment, row.client);
  const credential = given
    ? await readCredential(parts, row.kind, row.stage, settings, body, mapping, client, (one) => keyFor(environment, one))
    : null;
  const project = parts.gateways.projectOf(environment, row);
  const stranding = await strandingOf(
    parts,
    environment,
    row,
    { settings: before, project },
    { settings, project: credential ? (credential.project ?? null) : project },
  );
  return { row, settings, credential, stranding };
}

/** What a new credential is, and which devices it would strand; nothing is changed. */
export async function previewCredential(
  parts: Parts,
  environment: Environment,
  name: string,
  body: GatewayChanges,
): Promise<CredentialPreview> {
  const { credential, stranding } = await changed(parts, environment, name, body);
  return {
    credential: credential && { text: credential.text, expiresAt: credential.expiresAt?.toISOString() ?? null },
    ...stranding,
  };
}

/** @throws {Problem} not-found, wrong-state for web push, invalid-input, credential-refused, devices-stranded */
export async function changeGateway(parts: Parts, environment: Environment, name: string, body: GatewayChanges): Promise<Gateway> {
  const { row, settings, credential, stranding } = await changed(parts, environment, name, body);
  demandUnstranded(stranding, body.strandDevices ?? false);
  await parts.gateways.store.update(environment, row.id, {
    settings: { ...settings, credential: credential?.text ?? (storedJson(row.settings).credential as string) },
    ...(credential ? { sealed: sealSecrets(environment, name, credential.secrets), expiresAt: credential.expiresAt } : {}),
    check: null,
    checkedAt: null,
    updatedAt: new Date(parts.now()),
  });
  if (credential?.request) await removeSigningRequest(environment, credential.request);
  await parts.refusals.clear(environment, row);
  await parts.gatewayPorts.mended(environment, name);
  return showGateway(parts, environment, name);
}

/**
 * Checks the gateway without sending anything.
 * @throws {Problem} not-found
 */
export async function checkGateway(parts: Parts, environment: Environment, name: string): Promise<GatewayCheck> {
  const row = await gatewayNamed(parts, environment, name);
  parts.gateways.forget(environment);
  const opened = await parts.gateways.open(environment, name);
  const steps = (await opened?.sender.check()) ?? [];
  const result = { ok: steps.every(({ ok }) => ok), at: new Date(parts.now()).toISOString(), steps };
  await parts.gateways.store.update(environment, row.id, { check: result as unknown as JsonObject, checkedAt: new Date(parts.now()) });
  parts.gateways.forget(environment);
  return result;
}

/** @throws {Problem} not-found, wrong-state for web push */
export async function removeGateway(parts: Parts, environment: Environment, name: string): Promise<void> {
  const row = await gatewayNamed(parts, environment, name);
  if (row.kind === WEB_PUSH) throw new Problem('wrong-state', 'Every environment has its web push gateway; it cannot be removed.');
  await parts.gateways.store.remove(environment, row.id);
  parts.gateways.forget(environment);
  parts.gateways.drop(row.id);
}

/** @throws {Problem} not-found, wrong-state for others than web push */
export async function rotateKey(parts: Parts, environment: Environment, name: string): Promise<Gateway> {
  const row = await gatewayNamed(parts, environment, name);
  if (row.kind !== WEB_PUSH)
    throw new Problem('wrong-state', 'Only the web push key is generated here. Upload a new credential with PATCH instead.');
  await parts.webPush.rotate(environment);
  return showGateway(parts, environment, row.name);
}

export async function listMappings(parts: Parts, environment: Environment, name: string, most: number) {
  const row = await gatewayNamed(parts, environment, name);
  return (await parts.gateways.store.mappings(environment, row.id, most)).map((one) => presentMapping(environment, one));
}

/**
 * Adds a version of the mapping and activates it.
 * @throws {Problem} not-found, wrong-state, mapping-refused
 */
export async function putMapping(parts: Parts, environment: Environment, name: string, mapping: GatewayMapping, by: string) {
  const { store } = parts.gateways;
  const row = await gatewayNamed(parts, environment, name);
  if (!row.mappingVersion)
    throw new Problem('wrong-state', `A gateway of the kind ${row.kind} has no mapping: its protocol defines the format.`);
  demandMapping(mapping, row.kind);
  const before = (await store.mapping(environment, row.id, row.mappingVersion)) as GatewayMapping;
  if (before.token?.by !== mapping.token?.by)
    throw new Problem(
      'wrong-state',
      'The new mapping gets its token in a different way than the stored credential. Add a new gateway for it.',
    );
  const made = await store.addMapping(environment, row, mapping, by, new Date(parts.now()));
  parts.gateways.forget(environment);
  return presentMapping(environment, made);
}
