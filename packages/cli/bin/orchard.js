#!/usr/bin/env node
import { load } from './load.js';

await load().run();
