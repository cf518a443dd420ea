/** What a JSON file appears to be, to say so when it is the wrong one. */
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

/** Recognizes a kind of JSON document by its members. */
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
