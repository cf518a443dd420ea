import { generateKeyPairSync } from 'node:crypto';
import { clientCertificate, makeAuthority } from '@orchard/simulators';
import { describe, expect, it } from 'vitest';
import { describeFile } from '../src/messages/gateways/credentials.js';
import { readDeliveryStatus } from '../src/messages/mail/bounces.js';

const authority = makeAuthority();
const pem = (type: 'pkcs8' | 'sec1', format: 'pem' | 'der') =>
  generateKeyPairSync('ec', { namedCurve: 'prime256v1' }).privateKey.export({ type, format } as never) as unknown;

describe('a file is told by what it is', () => {
  it.each<[string, Buffer]>([
    ['a PEM certificate without a private key', Buffer.from(authority.certificate)],
    ['PEM with a certificate and a key', Buffer.from(authority.certificate + authority.key)],
    ['a PEM private key (PRIVATE KEY)', Buffer.from(pem('pkcs8', 'pem') as string)],
    ['a PEM private key (EC PRIVATE KEY)', Buffer.from(pem('sec1', 'pem') as string)],
    ['a PKCS#12 file', clientCertificate(authority, { packageIdentifier: 'x', stage: 'live', password: 'p' })],
    ['a binary certificate or key (DER)', pem('pkcs8', 'der') as Buffer],
    [
      'a certificate request, not yet a certificate',
      Buffer.from('-----BEGIN CERTIFICATE REQUEST-----\nAA==\n-----END CERTIFICATE REQUEST-----'),
    ],
    ['a client profile (orchard-client.json)', Buffer.from('{"clientKey":"c","environment":"dev"}')],
    ['a single key (JWK, RFC 7517)', Buffer.from('{"kty":"EC"}')],
    ['a gateway mapping', Buffer.from('{"mapping":1,"request":{},"answers":[]}')],
    ['the credential of an OAuth client that signs people in, not a service account', Buffer.from('{"web":{"client_secret":"x"}}')],
    ['a JSON object with a, b', Buffer.from('{"a":1,"b":2}')],
    ['a JSON array', Buffer.from('[1]')],
    ['empty', Buffer.from('')],
    ['a file of an unknown kind', Buffer.from('hello')],
  ])('%s', (words, bytes) => expect(describeFile(bytes)).toBe(words));
});

describe('a failure notice', () => {
  it.each([
    [
      'Action: failed\r\nStatus: 5.1.1\r\nDiagnostic-Code: smtp; 550 no such user',
      { action: 'failed', status: '5.1.1', diagnostic: '550 no such user' },
    ],
    [
      'action: FAILED\nDiagnostic-Code: smtp; 550\n the mailbox\n\tis full',
      { action: 'failed', status: null, diagnostic: '550 the mailbox is full' },
    ],
    ['Action: delayed\nStatus: 4.4.1', { action: 'delayed', status: '4.4.1', diagnostic: null }],
    ['I am on holiday.', null],
  ])('%#: is read by its fields (RFC 3464)', (text, report) => expect(readDeliveryStatus(text)).toEqual(report));
});
