// npm run fuzz: calls made from the contract against a real service. `--seed 2 --calls 10000 --only records.`
import { join } from 'node:path';
import { needBuild, needDebian, needNode, needPackages, root, run } from './prepare.mjs';

needNode();
needDebian({ mariadbd: 'mariadb-server' });
needPackages();
needBuild();
run(process.execPath, [join(root, 'packages/service/fuzz/main.mjs'), ...process.argv.slice(2)]);
