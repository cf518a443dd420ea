#!/usr/bin/env node
import '../dist/command/orchard.js';
