/**
 * The gateway of a notification to a device, or why there is none: as SQL for many devices, and as code for one row. Both
 * give the same texts.
 */
import type { GatewayRow } from '../gateways/store.js';
import { WEB_PUSH } from '../gateways/webPush.js';

/** Gateways for devices, live before trial: a device without a stage takes the first one of its client. */
export type PushWays = { name: string; client: string; stage: string }[];

export function pushWaysOf(rows: readonly GatewayRow[]): PushWays {
  return rows
    .filter(({ kind, client }) => (kind === 'certificate' || kind === 'token') && client)
    .map(({ name, client, stage }) => ({ name, client: client as string, stage }))
    .sort((a, b) => (a.stage < b.stage ? -1 : a.stage > b.stage ? 1 : 0));
}

/** Names are slugs, which need no escaping. */
const quoted = (text: string) => `'${text.replace(/[^a-z0-9-]/g, '')}'`;

/** The gateway's name as SQL over devices `v`; NULL without one. */
export function gatewaySql(ways: PushWays): string {
  const cases = ways.map(
    ({ name, client, stage }) =>
      `WHEN v.client = ${quoted(client)} AND COALESCE(v.tokenStage, ${quoted(stage)}) = ${quoted(stage)} THEN ${quoted(name)}`,
  );
  return `CASE WHEN v.endpoint IS NOT NULL THEN '${WEB_PUSH}' WHEN v.token IS NULL THEN NULL ${cases.join(' ')} END`;
}

export const REASONS = {
  retired: 'The device is retired.',
  denied: 'The person does not allow notifications.',
  unasked: 'The person has not been asked to allow notifications.',
  addressless: 'The device has not sent a push address.',
};
const otherStage = (stage: string, client: string) =>
  `Its address is for the ${stage} stage; client ${client} has a gateway for the other stage only.`;
const noGateway = (client: string) => `Client ${client} has no gateway.`;

/** Why a device is unreachable, as SQL over devices `v`; NULL when it is reachable. Silent ones need no permission. */
export function whySql(ways: PushWays, silent: boolean): string {
  const clients = [...new Set(ways.map(({ client }) => quoted(client)))].join(', ') || "''";
  const permission = silent
    ? ''
    : `WHEN v.permission = 'denied' THEN '${REASONS.denied}' WHEN v.permission = 'unasked' THEN '${REASONS.unasked}'`;
  const [stageHead, stageMiddle, stageTail] = otherStage('\u0000', '\u0000').split('\u0000');
  const [gatewayHead, gatewayTail] = noGateway('\u0000').split('\u0000');
  return `CASE WHEN v.retiredAt IS NOT NULL THEN '${REASONS.retired}' ${permission}
    WHEN v.endpoint IS NULL AND v.token IS NULL THEN '${REASONS.addressless}'
    WHEN ${gatewaySql(ways)} IS NOT NULL THEN NULL
    WHEN v.client IN (${clients}) THEN CONCAT('${stageHead}', v.tokenStage, '${stageMiddle}', v.client, '${stageTail}')
    ELSE CONCAT('${gatewayHead}', COALESCE(v.client, 'of nobody'), '${gatewayTail}') END`;
}

/** What decides whether a device is reachable, and through which gateway. */
export type Reached = {
  client: string | null;
  permission: string;
  endpoint: string | null;
  token: string | null;
  tokenStage: string | null;
  retiredAt: Date | null;
};

export function gatewayFor(device: Pick<Reached, 'client' | 'endpoint' | 'token' | 'tokenStage'>, ways: PushWays): string | null {
  if (device.endpoint) return WEB_PUSH;
  if (!device.token) return null;
  return ways.find(({ client, stage }) => client === device.client && (device.tokenStage ?? stage) === stage)?.name ?? null;
}

/** The same as {@link whySql} for one row. */
export function whyNot(device: Reached, ways: PushWays): string | null {
  if (device.retiredAt) return REASONS.retired;
  if (device.permission === 'denied') return REASONS.denied;
  if (device.permission === 'unasked') return REASONS.unasked;
  if (!device.endpoint && !device.token) return REASONS.addressless;
  if (gatewayFor(device, ways)) return null;
  const known = ways.some(({ client }) => client === device.client);
  return known ? otherStage(String(device.tokenStage), String(device.client)) : noGateway(device.client ?? 'of nobody');
}
