// npm start: the service alone, for real use.
import { spawn } from 'node:child_process';
import { join } from 'node:path';
import { needBuild, needDebian, needNode, needPackages, root } from './prepare.mjs';

needNode();
if (!process.env.ORCHARD_DATABASE_URL) needDebian({ mariadbd: 'mariadb-server' });
needPackages();
needBuild();
const child = spawn(process.execPath, [join(root, 'packages/service/dist/main.js')], { stdio: 'inherit' });
for (const signal of ['SIGINT', 'SIGTERM']) process.on(signal, () => signal === 'SIGTERM' && child.kill(signal));
child.once('exit', (code) => process.exit(code ?? 1));
