/**
 * Signing requests for client certificates (PKCS#10, RFC 2986): the key is made here and never leaves; the push network signs
 * the request, and the certificate that comes back finds its key by the public part.
 */
import { createHash, generateKeyPair, type KeyObject, type X509Certificate } from 'node:crypto';
import { promisify } from 'node:util';
import { Problem, type SigningRequest } from '@orchard/contract';
import forge from 'node-forge';
import { seal, unseal } from '../../platform/access/secrets.js';
import type { Environment } from '../../platform/call.js';
import { AppStore } from '../../setup/apps/store.js';
import type { Parts } from './parts.js';
import { type SigningRequestRow, SigningRequestStore } from './signingRequestStore.js';

type Subject = SigningRequest['subject'];
/** RSA, which every network that signs client certificates takes. */
const KEY_BITS = 2048;
const MOST = 20;
const store = new SigningRequestStore();
const contextOf = ({ sealedFor: id }: Environment, request: string) => `${id}:signing-request:${request}`;
const marking = (key: KeyObject): string =>
  createHash('sha256')
    .update(key.export({ type: 'spki', format: 'der' }))
    .digest('hex');

const present = ({ actors }: Environment, row: SigningRequestRow): SigningRequest => ({
  id: row.id,
  client: row.client,
  subject: row.subject as Subject,
  pem: row.pem,
  createdBy: actors.show(row.createdBy),
  createdAt: row.createdAt.toISOString(),
});

export async function listSigningRequests(environment: Environment): Promise<SigningRequest[]> {
  return (await store.list(environment)).map((row) => present(environment, row));
}

/** @throws {Problem} not-found for the client, wrong-state */
export async function addSigningRequest(
  parts: Pick<Parts, 'newId' | 'now' | 'random'> & ConstructorParameters<typeof AppStore>[0],
  environment: Environment,
  { client, ...wanted }: { client: string } & Partial<Subject>,
  by: string,
): Promise<SigningRequest> {
  await new AppStore(parts).client(environment, client);
  if ((await store.list(environment)).length >= MOST)
    throw new Problem('wrong-state', `There are ${MOST} open signing requests here already. Delete those that are no longer needed.`);
  const subject: Subject = { commonName: client, ...wanted };
  const { privateKey, publicKey } = await promisify(generateKeyPair)('rsa', { modulusLength: KEY_BITS });
  const id = parts.newId();
  const pem = privateKey.export({ type: 'pkcs8', format: 'pem' }) as string;
  const row: SigningRequestRow = {
    id,
    client,
    subject,
    publicKey: marking(publicKey),
    sealed: seal(environment.keys.data, contextOf(environment, id), pem),
    pem: requestOf(privateKey, publicKey, subject),
    createdBy: by,
    createdAt: new Date(parts.now()),
  };
  await store.add(environment, row);
  return present(environment, row);
}

/** @throws {Problem} not-found */
export async function removeSigningRequest(environment: Environment, id: string): Promise<void> {
  if (!(await store.remove(environment, id))) throw new Problem('not-found', `There is no open signing request ${id}.`);
}

/** The key that a certificate was signed for, as PEM, with its request; null if no open request has it. */
export async function keyFor(environment: Environment, certificate: X509Certificate): Promise<{ request: string; key: string } | null> {
  const row = await store.byPublicKey(environment, marking(certificate.publicKey));
  return row && { request: row.id, key: unseal(environment.keys.data, contextOf(environment, row.id), row.sealed).toString() };
}

/** RFC 2986 section 4, signed with SHA-256. */
function requestOf(privateKey: KeyObject, publicKey: KeyObject, { commonName, organization, country, mail }: Subject): string {
  const request = forge.pki.createCertificationRequest();
  request.publicKey = forge.pki.publicKeyFromPem(publicKey.export({ type: 'spki', format: 'pem' }) as string);
  const parts: [string, string | undefined][] = [
    ['CN', commonName],
    ['O', organization],
    ['C', country],
    ['E', mail],
  ];
  request.setSubject(
    parts.flatMap(([shortName, value]) =>
      value
        ? [{ shortName, value, valueTagClass: (shortName === 'C' ? forge.asn1.Type.PRINTABLESTRING : forge.asn1.Type.UTF8) as never }]
        : [],
    ),
  );
  request.sign(
    forge.pki.privateKeyFromPem(privateKey.export({ type: 'pkcs1', format: 'pem' } as never) as string),
    forge.md.sha256.create(),
  );
  return forge.pki.certificationRequestToPem(request).replaceAll('\r', '');
}
