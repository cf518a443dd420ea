/** A directory: OpenLDAP of Debian, on this machine, with the people of the simulated providers. */
import { type ChildProcess, execFileSync, spawn } from 'node:child_process';
import { existsSync, mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { createConnection, createServer, type AddressInfo } from 'node:net';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { type Authority, serverCertificate } from '../authority.js';
import { freeze, thaw } from '../freezing.js';
import { PROVIDER_PEOPLE, type ProviderPerson } from './people.js';

const SUFFIX = 'dc=ridge,dc=example';
const READER = { dn: `cn=reader,${SUFFIX}`, password: 'reads-the-ridge' };

export type DirectoryServer = {
  /** With TLS from the first byte, and with StartTLS. */
  address: string;
  plainAddress: string;
  people: string;
  groups: string;
  reader: { dn: string; password: string };
  /** PEM of the authority of its certificate. */
  trust: string;
  /** It answers nothing, until it is thawed; or it is gone. */
  freeze: () => Promise<void>;
  thaw: () => void;
  stop: () => Promise<void>;
};
type Options = {
  authority: Authority;
  people?: readonly ProviderPerson[];
  /** Further entries, to make it a large one. */
  more?: number;
  /** With TLS, and with StartTLS; absent: any free ones. */
  ports?: readonly [number, number];
};

/** Whether this machine has OpenLDAP. */
export const hasDirectory = (): boolean => existsSync('/usr/sbin/slapd');

const freePort = (): Promise<number> =>
  new Promise((resolve) => {
    const server = createServer().listen(0, '127.0.0.1', () => {
      const { port } = server.address() as AddressInfo;
      server.close(() => resolve(port));
    });
  });

export async function startDirectory({ authority, people = PROVIDER_PEOPLE, more = 0, ports }: Options): Promise<DirectoryServer> {
  const folder = mkdtempSync(join(tmpdir(), 'orchard-directory-'));
  const [tlsPort, plainPort] = ports ?? [await freePort(), await freePort()];
  writeSettings(folder, authority);
  execFileSync('/usr/sbin/slapadd', ['-q', '-f', join(folder, 'slapd.conf'), '-l', writePeople(folder, people, more)], {
    stdio: ['ignore', 'ignore', 'pipe'],
  });
  const address = `ldaps://localhost:${tlsPort}`;
  const plainAddress = `ldap://localhost:${plainPort}`;
  // `-d 0` keeps it in the foreground, a child of this process.
  const server = spawn(
    '/usr/sbin/slapd',
    [
      '-d',
      '0',
      '-f',
      join(folder, 'slapd.conf'),
      '-h',
      `${address.replace('localhost', '127.0.0.1')} ${plainAddress.replace('localhost', '127.0.0.1')}`,
    ],
    { stdio: 'ignore' },
  );
  await listening(server, tlsPort);
  return {
    address,
    plainAddress,
    people: `ou=people,${SUFFIX}`,
    groups: `ou=groups,${SUFFIX}`,
    reader: READER,
    trust: authority.certificate,
    freeze: () => freeze(server),
    thaw: () => thaw(server),
    stop: () => stop(server, folder),
  };
}

async function stop(server: ChildProcess, folder: string): Promise<void> {
  if (server.exitCode === null) {
    const ended = new Promise((resolve) => server.once('exit', resolve));
    server.kill('SIGCONT');
    server.kill('SIGTERM');
    await ended;
  }
  rmSync(folder, { recursive: true, force: true });
}

function writeSettings(folder: string, authority: Authority): void {
  const { cert, key } = serverCertificate(authority);
  writeFileSync(join(folder, 'server.pem'), cert);
  writeFileSync(join(folder, 'server.key'), key, { mode: 0o600 });
  writeFileSync(join(folder, 'authority.pem'), authority.certificate);
  mkdirSync(join(folder, 'data'));
  writeFileSync(
    join(folder, 'slapd.conf'),
    `include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile ${folder}/slapd.pid
TLSCACertificateFile ${folder}/authority.pem
TLSCertificateFile ${folder}/server.pem
TLSCertificateKeyFile ${folder}/server.key
sizelimit 1000
database mdb
maxsize 268435456
suffix "${SUFFIX}"
directory ${folder}/data
index objectClass,uid,member eq
access to attrs=userPassword by anonymous auth by * none
access to * by dn.exact="${READER.dn}" read by anonymous auth by * none
`,
  );
}

/** LDIF (RFC 2849): people, groups of people, and groups within groups, in a circle. */
function writePeople(folder: string, people: readonly ProviderPerson[], more: number): string {
  const dnOf = (user: string) => `uid=${user},ou=people,${SUFFIX}`;
  const names = [...new Set(people.flatMap(({ groups }) => groups))];
  const entries = [
    `dn: ${SUFFIX}\nobjectClass: domain\ndc: ridge`,
    `dn: ${READER.dn}\nobjectClass: organizationalRole\nobjectClass: simpleSecurityObject\ncn: reader\nuserPassword: ${READER.password}`,
    ...['people', 'groups'].map((unit) => `dn: ou=${unit},${SUFFIX}\nobjectClass: organizationalUnit\nou: ${unit}`),
    ...people.map(
      ({ user, name, email, password }) =>
        `dn: ${dnOf(user)}\nobjectClass: inetOrgPerson\nuid: ${user}\ncn: ${name}\nsn: ${name.split(' ').at(-1)}\nmail: ${email}\nuserPassword: ${password}`,
    ),
    ...Array.from(
      { length: more },
      (_, i) => `dn: ${dnOf(`walker${i}`)}\nobjectClass: inetOrgPerson\nuid: walker${i}\ncn: Walker ${i}\nsn: Walker`,
    ),
    ...names.map((group) => groupEntry(group, [...people.filter(({ groups }) => groups.includes(group)).map(({ user }) => dnOf(user))])),
    groupEntry('ridge', [`cn=staff,ou=groups,${SUFFIX}`, `cn=everybody,ou=groups,${SUFFIX}`]),
    groupEntry('everybody', [`cn=ridge,ou=groups,${SUFFIX}`]),
  ];
  const file = join(folder, 'people.ldif');
  writeFileSync(file, `${entries.join('\n\n')}\n`);
  return file;
}

const groupEntry = (name: string, members: string[]) =>
  `dn: cn=${name},ou=groups,${SUFFIX}\nobjectClass: groupOfNames\ncn: ${name}\n${members.map((member) => `member: ${member}`).join('\n')}`;

async function listening(server: ChildProcess, port: number): Promise<void> {
  for (let tries = 0; tries < 200; tries++) {
    if (server.exitCode !== null) throw new Error(`slapd ended with ${server.exitCode}`);
    const isOpen = await new Promise<boolean>((resolve) => {
      const socket = createConnection({ port, host: '127.0.0.1' });
      socket.once('connect', () => void socket.end(() => resolve(true)));
      socket.once('error', () => resolve(false));
    });
    if (isOpen) return;
    await new Promise((done) => setTimeout(done, 50));
  }
  throw new Error('slapd does not listen');
}
