/** A certificate authority of the simulators' own: server certificates, and the client certificates of the Cairn network. */
import { createPrivateKey, generateKeyPairSync } from 'node:crypto';
import forge from 'node-forge';

export type Authority = { certificate: string; key: string };
type Subject = { shortName?: string; name?: string; type?: string; value: string }[];
/** RFC 4519 section 2.39: uid. */
const UID = '0.9.2342.19200300.100.1.1';

function newKey(): { privateKey: forge.pki.rsa.PrivateKey; publicKey: forge.pki.rsa.PublicKey; pem: string } {
  const pem = generateKeyPairSync('rsa', { modulusLength: 2048 }).privateKey.export({ type: 'pkcs8', format: 'pem' }) as string;
  const privateKey = forge.pki.privateKeyFromPem(
    createPrivateKey(pem).export({ type: 'pkcs1', format: 'pem' }) as string,
  ) as forge.pki.rsa.PrivateKey;
  return { privateKey, publicKey: forge.pki.setRsaPublicKey(privateKey.n, privateKey.e), pem };
}

function certificateFor(
  subject: Subject,
  publicKey: forge.pki.rsa.PublicKey,
  validity: { from: Date; until: Date },
): forge.pki.Certificate {
  const certificate = forge.pki.createCertificate();
  certificate.publicKey = publicKey;
  certificate.serialNumber = `01${forge.util.bytesToHex(forge.random.getBytesSync(15))}`;
  certificate.validity.notBefore = validity.from;
  certificate.validity.notAfter = validity.until;
  certificate.setSubject(subject as forge.pki.CertificateField[]);
  return certificate;
}

const years = (count: number) => ({ from: new Date(Date.now() - 86_400_000), until: new Date(Date.now() + count * 365 * 86_400_000) });

export function makeAuthority(name = 'Simulated authority of Quillfell'): Authority {
  const { privateKey, publicKey, pem } = newKey();
  const subject = [{ shortName: 'CN', value: name }];
  const certificate = certificateFor(subject, publicKey, years(10));
  certificate.setIssuer(subject);
  certificate.setExtensions([
    { name: 'basicConstraints', cA: true },
    { name: 'keyUsage', keyCertSign: true, cRLSign: true },
  ]);
  certificate.sign(privateKey, forge.md.sha256.create());
  return { certificate: forge.pki.certificateToPem(certificate), key: pem };
}

function sign(authority: Authority, certificate: forge.pki.Certificate): void {
  certificate.setIssuer(forge.pki.certificateFromPem(authority.certificate).subject.attributes);
  certificate.sign(
    forge.pki.privateKeyFromPem(createPrivateKey(authority.key).export({ type: 'pkcs1', format: 'pem' }) as string),
    forge.md.sha256.create(),
  );
}

type ServerCertificate = { cert: string; key: string };
const serverCertificates = new WeakMap<Authority, ServerCertificate>();

/** The server certificate of this machine: all simulated servers run on it and share one, since an RSA key takes up to a second to make. */
export function serverCertificate(authority: Authority): ServerCertificate {
  const known = serverCertificates.get(authority) ?? makeServerCertificate(authority);
  serverCertificates.set(authority, known);
  return known;
}

/** One that has expired. */
export const expiredCertificate = (authority: Authority): ServerCertificate =>
  makeServerCertificate(authority, { from: new Date('2025-01-01T00:00:00Z'), until: new Date('2026-01-01T00:00:00Z') });

function makeServerCertificate(authority: Authority, validity = years(5)): ServerCertificate {
  const { publicKey, pem } = newKey();
  const certificate = certificateFor([{ shortName: 'CN', value: 'localhost' }], publicKey, validity);
  certificate.setExtensions([
    {
      name: 'subjectAltName',
      altNames: [
        { type: 2, value: 'localhost' },
        { type: 7, ip: '127.0.0.1' },
      ],
    },
    { name: 'extKeyUsage', serverAuth: true },
  ]);
  sign(authority, certificate);
  return { cert: forge.pki.certificateToPem(certificate), key: pem };
}

export type ClientCertificateOrder = {
  packageIdentifier: string;
  stage: 'trial' | 'live';
  password: string;
  from?: Date;
  until?: Date;
  /** Leave the private key out, as when only the certificate was exported. */
  withoutKey?: boolean;
};

/** A client certificate as a PKCS#12 file (RFC 7292). */
export function clientCertificate(authority: Authority, order: ClientCertificateOrder): Buffer {
  const { privateKey, publicKey } = newKey();
  const certificate = signedFor(authority, order, publicKey);
  const key = order.withoutKey ? null : privateKey;
  const pfx = forge.pkcs12.toPkcs12Asn1(key as forge.pki.rsa.PrivateKey, [certificate], order.password, { algorithm: 'aes256' });
  return Buffer.from(forge.asn1.toDer(pfx).getBytes(), 'binary');
}

/**
 * The certificate for a signing request (RFC 2986), in PEM: as networks do, with their own subject.
 * @throws Error for a request that is not signed with its own key
 */
export function signRequest(authority: Authority, pem: string, order: Pick<ClientCertificateOrder, 'packageIdentifier' | 'stage'>): string {
  const request = forge.pki.certificationRequestFromPem(pem);
  if (!request.verify()) throw new Error('The request is not signed with its own key.');
  return forge.pki.certificateToPem(signedFor(authority, order, request.publicKey as forge.pki.rsa.PublicKey));
}

function signedFor(
  authority: Authority,
  order: Pick<ClientCertificateOrder, 'packageIdentifier' | 'stage' | 'from' | 'until'>,
  publicKey: forge.pki.rsa.PublicKey,
): forge.pki.Certificate {
  const validity = years(1);
  const certificate = certificateFor(
    [
      { type: UID, value: order.packageIdentifier },
      { shortName: 'CN', value: `Cairn ${order.stage} push for ${order.packageIdentifier}` },
      { shortName: 'OU', value: order.stage },
    ],
    publicKey,
    { from: order.from ?? validity.from, until: order.until ?? validity.until },
  );
  certificate.setExtensions([{ name: 'extKeyUsage', clientAuth: true }]);
  sign(authority, certificate);
  return certificate;
}
