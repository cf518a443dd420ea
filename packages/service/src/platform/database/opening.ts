/** Opens the servers that the settings name. */
import mysql from 'mysql2/promise';
import type { Logger } from 'pino';
import { type Database, openDatabase, systemDatabaseOf } from './connection.js';
import { nodeAddresses } from './nodes.js';

/** Connections to the database; this many instances share the server's prepared statements. */
const CONNECTIONS = 20;
const INSTANCES_FIT = 4;

type Asked = { mostStatements: number; isGalera: boolean };

/** An outside server may still be starting, and may not have the system database yet. */
async function createSystemDatabase(url: string): Promise<Asked> {
  const [first = url] = nodeAddresses(url);
  return askServer(url, 'ORCHARD_DATABASE_URL', async (connection) => {
    const name = systemDatabaseOf(first).replaceAll('`', '');
    await connection.query(`CREATE DATABASE IF NOT EXISTS \`${name}\` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`);
  });
}

/** The main server or cluster. @throws Error that names the setting */
export const openSystemServer = async (url: string, log: Logger): Promise<Database> =>
  openServer(url, await createSystemDatabase(url), log);

const openServer = (url: string, { mostStatements, isGalera }: Asked, log: Logger): Database =>
  openDatabase(url, { connections: CONNECTIONS, statements: mostStatements / INSTANCES_FIT, isGalera, log });

/** Further servers, on which environments may be placed; each must answer. */
export async function openServers(addresses: ReadonlyMap<string, string>, log: Logger): Promise<Map<string, Database>> {
  const servers = new Map<string, Database>();
  for (const [name, url] of addresses) servers.set(name, openServer(url, await askServer(url, `${name} in ORCHARD_DATABASE_SERVERS`), log));
  return servers;
}

/** Of a cluster, the first node that answers. @throws Error that names the setting, without the password */
async function askServer(url: string, setting: string, prepare?: (connection: mysql.Connection) => Promise<void>): Promise<Asked> {
  const failures: string[] = [];
  for (const node of nodeAddresses(url)) {
    const bare = new URL(node.replace(/^mariadb:/, 'mysql:'));
    bare.pathname = '/';
    try {
      const connection = await mysql.createConnection({ uri: bare.toString(), connectTimeout: 10_000 });
      await prepare?.(connection);
      const [[{ most }]] = (await connection.query('SELECT @@GLOBAL.max_prepared_stmt_count AS most')) as unknown as [[{ most: number }]];
      const [galera] = await connection.query<mysql.RowDataPacket[]>(
        "SHOW GLOBAL VARIABLES WHERE Variable_name = 'wsrep_on' AND Value = 'ON'",
      );
      await connection.end();
      return { mostStatements: Number(most), isGalera: galera.length > 0 };
    } catch (error) {
      failures.push(`The database at ${bare.host} cannot be used: ${(error as Error).message}.`);
    }
  }
  throw new Error(`${failures.join(' ')} Check ${setting}, and that its user may create databases.`);
}
