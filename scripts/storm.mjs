// npm run storm: everything at once on a cluster, while parts of it are killed at random; then whether all of it holds.
import { join } from 'node:path';
import { needBuild, needDebian, needNode, needPackages, root, run } from './prepare.mjs';

needNode();
needDebian({ mariadbd: 'mariadb-server', haproxy: 'haproxy', rsync: 'rsync', slapd: 'slapd', faketime: 'faketime' });
needPackages();
needBuild();
run(process.execPath, [join(root, 'packages/demo/dist/storm/main.js'), ...process.argv.slice(2)]);
