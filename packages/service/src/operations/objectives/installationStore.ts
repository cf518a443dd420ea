/** What the installation tells of its database servers. */
import type { Database } from '../../platform/database/connection.js';

/** How long the slowest server takes to answer, in milliseconds. */
export async function slowestPing(servers: readonly Database[]): Promise<number> {
  const times = await Promise.all(
    servers.map(async (server) => {
      const began = performance.now();
      await server.runRows('SELECT 1').catch(() => null);
      return performance.now() - began;
    }),
  );
  return Math.max(...times);
}
