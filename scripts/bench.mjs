// npm run bench: the service beside bare code that does the same, in one run.
import { join } from 'node:path';
import { needBuild, needDebian, needNode, needPackages, root, run } from './prepare.mjs';

needNode();
needDebian({ mariadbd: 'mariadb-server', postgres: 'postgresql', haproxy: 'haproxy', rsync: 'rsync' });
needPackages();
needBuild();
run(process.execPath, [join(root, 'packages/service/bench/main.mjs'), ...process.argv.slice(2)]);
