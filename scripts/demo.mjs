// npm run demo: everything on this machine, with the scenario's data.
import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { needBuild, needDebian, needNode, needPackages, root } from './prepare.mjs';

needNode();
const isCluster = process.argv.includes('--cluster');
needDebian({
  mariadbd: 'mariadb-server',
  postgres: 'postgresql',
  slapd: 'slapd',
  ffmpeg: 'ffmpeg',
  ...(isCluster ? { haproxy: 'haproxy', rsync: 'rsync' } : {}),
});
needPackages();
needBuild();
const child = spawn(process.execPath, [join(root, 'packages/demo/dist/main.js'), ...process.argv.slice(2)], { stdio: 'inherit' });
// Ctrl-C reaches the child too; it does the stopping.
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => signal === 'SIGTERM' && child.kill(signal));
child.once('exit', (code) => process.exit(code ?? 1));
