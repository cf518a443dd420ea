// npm run build: every package, whether or not it has changed.
import { build, needNode, needPackages } from './prepare.mjs';

needNode();
needPackages();
build();
