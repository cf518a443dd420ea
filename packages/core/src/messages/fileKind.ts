/** What a JSON file seems to be, so that a wrong one can be told by name. */
import { isPlainObject, type Json } from '../json.js';

const KINDS: { is: string; has: string[][] }[] = [
  { is: 'a client profile (orchard-client.json)', has: [['clientKey', 'environment']] },
  { is: 'a gateway mapping', has: [['mapping', 'request', 'answers']] },
  { is: 'a list of keys (JWK Set, RFC 7517)', has: [['keys']] },
  { is: 'a single key (JWK, RFC 7517)', has: [['kty']] },
  { is: 'an OpenAPI document', has: [['openapi'], ['swagger']] },
  {
    is: 'GeoJSON',
    has: [
      ['type', 'features'],
      ['type', 'coordinates'],
    ],
  },
  {
    is: 'a package.json',
    has: [
      ['name', 'version', 'dependencies'],
      ['name', 'version', 'scripts'],
    ],
  },
  { is: 'a web app manifest', has: [['start_url'], ['display', 'icons']] },
  { is: 'the credential of an OAuth client that signs people in, not a service account', has: [['client_secret'], ['clientSecret']] },
];

/** Names a kind of JSON document by the members it has. */
export function describeJson(value: Json): string {
  if (!isPlainObject(value)) return Array.isArray(value) ? 'a JSON array' : 'a single JSON value';
  const names = new Set(Object.keys(value));
  const [only] = Object.values(value);
  const found = KINDS.find(({ has }) => has.some((members) => members.every((name) => names.has(name))));
  if (found) return found.is;
  if (names.size === 1 && isPlainObject(only)) return describeJson(only);
  if ('private_key' in value || 'privateKey' in value) return 'a service account’s key file of another network';
  return names.size ? `a JSON object with ${[...names].slice(0, 6).join(', ')}` : 'an empty JSON object';
}
