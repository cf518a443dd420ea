/** The number of devices of each gateway, and its deliveries of the last day. */
import { KeptByCost } from '../../platform/database/keptByCost.js';
import { gatewaySql, pushWaysOf } from '../devices/pushWays.js';
import type { GatewayUse } from '../gateways/ports.js';
import type { Environment } from '../../platform/call.js';
import type { GatewayRow } from '../gateways/store.js';
import { devicesSql } from '../devices/devicesSql.js';
import { deliveryTable, notificationTable } from './tables.js';

const DAY_MS = 86_400_000;

export class GatewayCounter {
  /** Both counts go over all devices and the day's deliveries, and the page of gateways asks every ten seconds. */
  readonly #kept = new KeptByCost<GatewayUse>();

  constructor(private readonly now: () => number) {}

  async count(environment: Environment, gateways: readonly GatewayRow[]): Promise<GatewayUse> {
    const name = `${environment.id} ${gateways.map(({ name: one }) => one).join(' ')}`;
    const kept = this.#kept.get(name);
    if (kept) return kept;
    const began = performance.now();
    const [devices, lastDay] = await Promise.all([this.#devices(environment, gateways), this.#lastDay(environment)]);
    const counts = { devices, lastDay };
    this.#kept.keep(name, counts, performance.now() - began);
    return counts;
  }

  #devices({ db }: Environment, gateways: readonly GatewayRow[]): Promise<GatewayUse['devices']> {
    return db.rows(
      `SELECT gateway, COUNT(*) AS registered, SUM(permission = 'granted') AS reachable FROM (
         SELECT ${gatewaySql(pushWaysOf(gateways))} AS gateway, permission FROM ${devicesSql(db)} WHERE retiredAt IS NULL) AS led WHERE gateway IS NOT NULL GROUP BY gateway`,
    );
  }

  #lastDay({ db }: Environment): Promise<GatewayUse['lastDay']> {
    const since = new Date(this.now() - DAY_MS);
    return db.rows(
      `SELECT d.gateway, d.state, COUNT(*) AS count, MAX(d.updatedAt) AS at FROM ${db.of(notificationTable)} n JOIN ${db.of(deliveryTable)} d ON d.notificationId = n.id
       WHERE n.changedAt > ? AND d.updatedAt > ? AND d.gateway IS NOT NULL GROUP BY d.gateway, d.state`,
      [since, since],
    );
  }
}
