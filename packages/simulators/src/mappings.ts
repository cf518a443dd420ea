/** The gateway mappings of the simulated networks, as the files that ship. */
import { readFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import type { GatewayMapping } from '@orchard/core/messages';

export const MAPPING_NAMES = ['cairn', 'tarn', 'tarn-signed', 'heron'] as const;
export const mappingFile = (name: (typeof MAPPING_NAMES)[number]): string =>
  fileURLToPath(new URL(`../mappings/${name}.json`, import.meta.url));
export const readMapping = (name: (typeof MAPPING_NAMES)[number]): GatewayMapping =>
  JSON.parse(readFileSync(mappingFile(name), 'utf8')) as GatewayMapping;
