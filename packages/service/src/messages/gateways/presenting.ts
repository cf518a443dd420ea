/** Gateways as the API shows them: what is stored, whether they are ready, and what went through them. */
import { type Gateway, type GatewayCheck, gatewayMapping } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { Environment } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { AppStore } from '../../setup/apps/store.js';
import type { Parts } from './parts.js';
import { credentialText, type GatewayFacts, readinessOf } from './readiness.js';
import type { GatewayRow } from './store.js';
import { WEB_PUSH } from './webPush.js';

/** Figures of gateways beside their rows, by name. */
export async function factsOf(parts: Parts, environment: Environment, rows: readonly GatewayRow[]): Promise<Map<string, GatewayFacts>> {
  const [clients, { devices, lastDay }] = await Promise.all([
    new AppStore(parts).listClients(environment),
    parts.gatewayPorts.use(environment, rows),
  ]);
  const found = new Map<string, GatewayFacts>();
  for (const row of rows) {
    const client = clients.find(({ name }) => name === row.client);
    const counted = devices.find(({ gateway }) => gateway === row.name);
    const said = lastDay.filter(({ gateway }) => gateway === row.name);
    const sum = (...states: string[]) =>
      said.filter(({ state }) => states.includes(state)).reduce((total, { count }) => total + Number(count), 0);
    const mapping = row.mappingVersion ? await parts.gateways.store.mapping(environment, row.id, row.mappingVersion) : null;
    const latest = said.map(({ at }) => at.getTime());
    found.set(row.name, {
      client: client ? { packageIdentifier: client.packageIdentifier, project: client.project } : null,
      devices: ['smpp', 'http', 'smtp'].includes(row.kind)
        ? null
        : { registered: Number(counted?.registered ?? 0), reachable: Number(counted?.reachable ?? 0) },
      mapping: mapping && { version: row.mappingVersion, title: mapping.title },
      keys: row.kind === WEB_PUSH ? await parts.webPush.describe(environment) : [],
      lastDay: {
        accepted: sum('accepted', 'arrived'),
        failed: sum('failed'),
        lastAnswerAt: latest.length ? new Date(Math.max(...latest)).toISOString() : null,
      },
    });
  }
  return found;
}

export function presentGateway(row: GatewayRow, known: GatewayFacts, now: number): Gateway {
  const { credential: _hidden, ...settings } = storedJson(row.settings);
  const shown = { ...row, check: row.check && storedJson(row.check) };
  const readiness = readinessOf(shown, known, now);
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

export const presentMapping = (
  { actors }: Environment,
  row: { version: number; document: JsonObject; createdBy: string; createdAt: Date },
) => ({
  version: row.version,
  document: gatewayMapping.parse(storedJson(row.document)),
  createdBy: actors.show(row.createdBy),
  createdAt: row.createdAt.toISOString(),
});
