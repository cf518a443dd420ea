/** A key of our own for a way to sign in, with the certificate that goes into our metadata. */
import { createPrivateKey, generateKeyPair } from 'node:crypto';
import { promisify } from 'node:util';
import forge from 'node-forge';

const YEARS = 10;
const make = promisify(generateKeyPair);

/** @returns PEM: an RSA key, which every SAML provider takes, and a certificate that it signs itself */
export async function makeSelfSigned(name: string, now: number): Promise<{ key: string; certificate: string }> {
  const { privateKey } = await make('rsa', { modulusLength: 2048 });
  const key = privateKey.export({ type: 'pkcs8', format: 'pem' }) as string;
  const signer = forge.pki.privateKeyFromPem(
    createPrivateKey(key).export({ type: 'pkcs1', format: 'pem' }) as string,
  ) as forge.pki.rsa.PrivateKey;
  const certificate = forge.pki.createCertificate();
  certificate.publicKey = forge.pki.setRsaPublicKey(signer.n, signer.e);
  certificate.serialNumber = `01${forge.util.bytesToHex(forge.random.getBytesSync(15))}`;
  certificate.validity.notBefore = new Date(now - 86_400_000);
  certificate.validity.notAfter = new Date(now + YEARS * 365 * 86_400_000);
  const subject = [{ shortName: 'CN', value: name }];
  certificate.setSubject(subject);
  certificate.setIssuer(subject);
  certificate.sign(signer, forge.md.sha256.create());
  return { key, certificate: forge.pki.certificateToPem(certificate) };
}
