/** A real SFTP host: Debian's sshd with a user key and host key of its own, as the user who runs the tests. */
import { execFileSync, spawn } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { userInfo } from 'node:os';
import { join } from 'node:path';
import { SftpPlace } from '../src/setup/backups/places/sftp.js';
import { freePorts } from './ports.js';
import { scratchDirectory } from './scratch.js';
import { eventually } from './support.js';

export type SftpServer = {
  port: number;
  user: string;
  /** In PEM. */
  privateKey: string;
  hostKey: string;
  /** A folder for backups. */
  path: string;
  stop: () => Promise<unknown>;
};

export async function startSftpServer(): Promise<SftpServer> {
  const directory = scratchDirectory('sshd');
  const path = join(directory, 'store');
  mkdirSync(path);
  mkdirSync('/run/sshd', { recursive: true });
  const makeKey = (name: string) => {
    execFileSync('ssh-keygen', ['-q', '-t', 'ed25519', '-N', '', '-f', join(directory, name)]);
    return readFileSync(join(directory, `${name}.pub`), 'utf8');
  };
  makeKey('host');
  writeFileSync(join(directory, 'authorized'), makeKey('user'), { mode: 0o600 });
  const port = await freePorts(1);
  const config = [
    `Port ${port}`,
    'ListenAddress 127.0.0.1',
    `HostKey ${join(directory, 'host')}`,
    `AuthorizedKeysFile ${join(directory, 'authorized')}`,
    `PidFile ${join(directory, 'sshd.pid')}`,
    'StrictModes no',
    'UsePAM no',
    'PasswordAuthentication no',
    'PermitRootLogin prohibit-password',
    'Subsystem sftp internal-sftp',
  ];
  writeFileSync(join(directory, 'sshd_config'), `${config.join('\n')}\n`);
  const child = spawn('/usr/sbin/sshd', ['-D', '-e', '-f', join(directory, 'sshd_config')], { stdio: ['ignore', 'ignore', 'ignore'] });
  const ended = once(child, 'exit');
  const hostKey = await eventually(() => SftpPlace.hostKeyOf({ host: '127.0.0.1', port }).catch(() => ''));
  return {
    port,
    user: userInfo().username,
    privateKey: readFileSync(join(directory, 'user'), 'utf8'),
    hostKey,
    path,
    stop: () => {
      child.kill();
      return ended;
    },
  };
}
