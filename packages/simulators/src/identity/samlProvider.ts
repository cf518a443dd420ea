/** A provider of SAML 2.0 (web browser profile): takes signed requests by both bindings, posts signed and encrypted assertions. */
import { createVerify, generateKeyPairSync, randomBytes } from 'node:crypto';
import { createServer, type IncomingMessage, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';
import { inflateRawSync } from 'node:zlib';
import { SignedXml } from 'xml-crypto';
import { encrypt } from 'xml-encryption';
import { type Authority, makeAuthority } from '../authority.js';
import { CLOCK_OFF_MS, type IdentityFault, SLOW_MS } from './faults.js';
import { PROVIDER_PEOPLE, type ProviderPerson } from './people.js';

const PROTOCOL = 'urn:oasis:names:tc:SAML:2.0:protocol';
const ASSERTION = 'urn:oasis:names:tc:SAML:2.0:assertion';
const SHA256 = 'http://www.w3.org/2001/04/xmldsig-more#rsa-sha256';
const EXCLUSIVE = 'http://www.w3.org/2001/10/xml-exc-c14n#';
const ENVELOPED = 'http://www.w3.org/2000/09/xmldsig#enveloped-signature';
const MINUTE_MS = 60_000;

/** What a request asks for. */
export type SamlRequest = { id: string; issuer: string; callbackUrl: string; relayState: string; signed: boolean };
export type ResponseChanges = {
  audience?: string;
  inResponseTo?: string;
  issuer?: string;
  recipient?: string;
  /** What is signed: the assertion, as it should be; the response around it alone; nothing. */
  sign?: 'assertion' | 'response' | 'nothing';
  /** Encrypts the assertion with this certificate. */
  encryptFor?: string;
  /** Changes the text after it was signed. */
  tamper?: (xml: string) => string;
};

export type SamlProvider = {
  address: string;
  entityId: string;
  /** @param bindings of its SingleSignOnService */
  metadata: (bindings?: readonly ('HTTP-Redirect' | 'HTTP-POST')[]) => string;
  fault: (fault: IdentityFault) => void;
  /** What the service provider's metadata says: requests are checked by its certificate. */
  trust: (metadata: string) => void;
  /** The request in an address or form that a browser was given. */
  read: (address: string, form?: Record<string, string>) => SamlRequest;
  /** A response, as base64. */
  respond: (request: SamlRequest, person: ProviderPerson, changes?: ResponseChanges) => Promise<string>;
  stop: () => Promise<void>;
};

const escaped = (text: string) => text.replace(/[&<>"]/g, (letter) => `&#${letter.charCodeAt(0)};`);
const bodyOf = (pem: string) => pem.replace(/-----[^-]+-----|\s/g, '');
const id = () => `_${randomBytes(16).toString('hex')}`;

type Options = {
  port?: number;
  people?: readonly ProviderPerson[];
  /** Its key and certificate; absent: new ones. */
  authority?: Authority;
  /** Takes the metadata of whoever asks from the address that is their entity id. */
  trusting?: boolean;
};

export async function startSamlProvider({
  port = 0,
  people = PROVIDER_PEOPLE,
  authority,
  trusting = false,
}: Options = {}): Promise<SamlProvider> {
  const own = authority ?? makeAuthority('Simulated provider of Quillfell');
  const stranger = generateKeyPairSync('rsa', { modulusLength: 2048 }).privateKey.export({ type: 'pkcs8', format: 'pem' }) as string;
  let fault: IdentityFault = 'none';
  let certificate: string | null = null;
  let address = '';

  const trust: SamlProvider['trust'] = (theirs) => {
    const found = /<(?:\w+:)?X509Certificate>([^<]+)</.exec(theirs)?.[1] ?? '';
    certificate = `-----BEGIN CERTIFICATE-----\n${found.replace(/\s/g, '').replace(/(.{64})/g, '$1\n')}\n-----END CERTIFICATE-----\n`;
  };

  const read: SamlProvider['read'] = (url, form) => {
    const query = form ? new URLSearchParams(form) : new URL(url).searchParams;
    const packed = Buffer.from(query.get('SAMLRequest') ?? '', 'base64');
    const xml = (form ? packed : inflateRawSync(packed)).toString('utf8');
    const member = (pattern: RegExp) => pattern.exec(xml)?.[1] ?? '';
    return {
      id: member(/\bID="([^"]+)"/),
      issuer: member(/<(?:\w+:)?Issuer[^>]*>([^<]+)</),
      callbackUrl: member(/AssertionConsumerServiceURL="([^"]+)"/),
      relayState: query.get('RelayState') ?? '',
      signed: form ? isSignedXml(xml, certificate) : isSignedAddress(url, certificate),
    };
  };

  const respond: SamlProvider['respond'] = async (request, person, changes = {}) => {
    const now = Date.now() + (fault === 'clock-off' ? CLOCK_OFF_MS : 0) - (fault === 'expired' ? 30 * MINUTE_MS : 0);
    const issuer = changes.issuer ?? address;
    const inResponseTo = changes.inResponseTo ?? request.id;
    const key = fault === 'wrong-signature' || fault === 'changed-keys' ? stranger : own.key;
    const assertion = assertionOf({
      issuer,
      request: { ...request, id: inResponseTo },
      person,
      now,
      audience: changes.audience ?? request.issuer,
      recipient: changes.recipient ?? request.callbackUrl,
    });
    const which = changes.sign ?? 'assertion';
    const signed = which === 'assertion' ? signXml(assertion, 'Assertion', key, own.certificate) : assertion;
    const inside = changes.encryptFor ? await encrypted(signed, changes.encryptFor) : signed;
    const response = responseOf({ issuer, callbackUrl: request.callbackUrl, inResponseTo, now, inside });
    const whole = which === 'response' ? signXml(response, 'Response', key, own.certificate) : response;
    return Buffer.from((changes.tamper ?? ((xml) => xml))(whole)).toString('base64');
  };

  const serve = async (incoming: IncomingMessage, outgoing: ServerResponse) => {
    if (fault === 'slow') await new Promise((done) => setTimeout(done, SLOW_MS));
    outgoing.setHeader('date', new Date(Date.now() + (fault === 'clock-off' ? CLOCK_OFF_MS : 0)).toUTCString());
    const url = new URL(incoming.url ?? '/', address);
    const form = incoming.method === 'POST' ? Object.fromEntries(new URLSearchParams(await textOf(incoming))) : undefined;
    if (url.pathname === '/metadata') return void outgoing.setHeader('content-type', 'application/samlmetadata+xml').end(metadata());
    if (url.pathname === '/request') {
      const asked = form?.SAMLRequest ? form : undefined;
      if (trusting && certificate === null) trust(await (await fetch(read(url.href, asked).issuer)).text());
      return page(outgoing, signInForm(read(url.href, asked)));
    }
    if (url.pathname !== '/sign-in') return void outgoing.writeHead(404).end();
    const request = JSON.parse(Buffer.from(form?.asked ?? '', 'base64url').toString()) as SamlRequest;
    const person = people.find(({ user, password }) => user === form?.user && password === form?.password);
    if (!person || fault === 'revoked' || !request.signed) return page(outgoing, '<p>Refused.</p>', 403);
    const response = await respond(request, person);
    page(
      outgoing,
      `<form method="post" action="${escaped(request.callbackUrl)}"><input type="hidden" name="SAMLResponse" value="${response}"><input type="hidden" name="RelayState" value="${escaped(request.relayState)}"><button>Go on</button></form>`,
    );
  };
  const server = createServer((incoming, outgoing) => {
    serve(incoming, outgoing).catch((error: Error) => outgoing.writeHead(400).end(error.message));
  });
  await new Promise<void>((done) => server.listen(port, '127.0.0.1', done));
  address = `http://127.0.0.1:${(server.address() as AddressInfo).port}`;

  const metadata: SamlProvider['metadata'] = (bindings = ['HTTP-Redirect', 'HTTP-POST']) =>
    `<EntityDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata" entityID="${address}"><IDPSSODescriptor WantAuthnRequestsSigned="true" protocolSupportEnumeration="${PROTOCOL}"><KeyDescriptor use="signing"><KeyInfo xmlns="http://www.w3.org/2000/09/xmldsig#"><X509Data><X509Certificate>${bodyOf(own.certificate)}</X509Certificate></X509Data></KeyInfo></KeyDescriptor>${bindings
      .map((binding) => `<SingleSignOnService Binding="urn:oasis:names:tc:SAML:2.0:bindings:${binding}" Location="${address}/request"/>`)
      .join('')}</IDPSSODescriptor></EntityDescriptor>`;

  return {
    address,
    entityId: address,
    metadata,
    fault: (next) => {
      fault = next;
    },
    trust,
    read,
    respond,
    stop: () =>
      new Promise((done) => {
        server.close(() => done());
        server.closeAllConnections();
      }),
  };
}

async function textOf(incoming: IncomingMessage): Promise<string> {
  const parts: Buffer[] = [];
  for await (const part of incoming) parts.push(part as Buffer);
  return Buffer.concat(parts).toString('utf8');
}

function page(outgoing: ServerResponse, body: string, status = 200): void {
  outgoing
    .writeHead(status, { 'content-type': 'text/html; charset=utf-8' })
    .end(`<!doctype html><title>Simulated provider</title><main>${body}</main>`);
}

const signInForm = (request: SamlRequest) =>
  `<form method="post" action="/sign-in"><input type="hidden" name="asked" value="${Buffer.from(JSON.stringify(request)).toString('base64url')}"><label>User <input name="user"></label><label>Password <input name="password" type="password"></label><button>Sign in</button></form>`;

/** SAML 2.0 Core, section 2.3.3. */
function assertionOf({
  issuer,
  request,
  person,
  now,
  audience,
  recipient,
}: {
  issuer: string;
  request: SamlRequest;
  person: ProviderPerson;
  now: number;
  audience: string;
  recipient: string;
}): string {
  const at = (offsetMs: number) => new Date(now + offsetMs).toISOString();
  const attribute = (name: string, values: string[]) =>
    `<saml:Attribute Name="${name}">${values.map((value) => `<saml:AttributeValue>${escaped(value)}</saml:AttributeValue>`).join('')}</saml:Attribute>`;
  return `<saml:Assertion xmlns:saml="${ASSERTION}" ID="${id()}" Version="2.0" IssueInstant="${at(0)}"><saml:Issuer>${escaped(issuer)}</saml:Issuer><saml:Subject><saml:NameID Format="urn:oasis:names:tc:SAML:2.0:nameid-format:persistent">${escaped(person.id)}</saml:NameID><saml:SubjectConfirmation Method="urn:oasis:names:tc:SAML:2.0:cm:bearer"><saml:SubjectConfirmationData InResponseTo="${request.id}" NotOnOrAfter="${at(5 * MINUTE_MS)}" Recipient="${escaped(recipient)}"/></saml:SubjectConfirmation></saml:Subject><saml:Conditions NotBefore="${at(-1000)}" NotOnOrAfter="${at(5 * MINUTE_MS)}"><saml:AudienceRestriction><saml:Audience>${escaped(audience)}</saml:Audience></saml:AudienceRestriction></saml:Conditions><saml:AuthnStatement AuthnInstant="${at(0)}"><saml:AuthnContext><saml:AuthnContextClassRef>urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement><saml:AttributeStatement>${attribute('email', [person.email])}${attribute('name', [person.name])}${attribute('groups', person.groups)}</saml:AttributeStatement></saml:Assertion>`;
}

function responseOf({
  issuer,
  callbackUrl,
  inResponseTo,
  now,
  inside,
}: {
  issuer: string;
  callbackUrl: string;
  inResponseTo: string;
  now: number;
  inside: string;
}): string {
  return `<samlp:Response xmlns:samlp="${PROTOCOL}" xmlns:saml="${ASSERTION}" ID="${id()}" Version="2.0" IssueInstant="${new Date(now).toISOString()}" Destination="${escaped(callbackUrl)}" InResponseTo="${inResponseTo}"><saml:Issuer>${escaped(issuer)}</saml:Issuer><samlp:Status><samlp:StatusCode Value="urn:oasis:names:tc:SAML:2.0:status:Success"/></samlp:Status>${inside}</samlp:Response>`;
}

function signXml(xml: string, element: 'Assertion' | 'Response', privateKey: string, publicCert: string): string {
  const signer = new SignedXml({ privateKey, publicCert, signatureAlgorithm: SHA256, canonicalizationAlgorithm: EXCLUSIVE });
  const xpath = `//*[local-name(.)='${element}']`;
  signer.addReference({ xpath, digestAlgorithm: 'http://www.w3.org/2001/04/xmlenc#sha256', transforms: [ENVELOPED, EXCLUSIVE] });
  signer.computeSignature(xml, { location: { reference: `${xpath}/*[local-name(.)='Issuer']`, action: 'after' } });
  return signer.getSignedXml();
}

/** XML Encryption 1.1: the assertion by AES-256-GCM, its key by RSA-OAEP. */
function encrypted(xml: string, certificate: string): Promise<string> {
  const options = {
    rsa_pub: certificate,
    pem: certificate,
    encryptionAlgorithm: 'http://www.w3.org/2009/xmlenc11#aes256-gcm',
    keyEncryptionAlgorithm: 'http://www.w3.org/2001/04/xmlenc#rsa-oaep-mgf1p',
  };
  return new Promise((resolve, reject) =>
    encrypt(xml, options as never, (error: Error | null, result: string) =>
      error ? reject(error) : resolve(`<saml:EncryptedAssertion>${result}</saml:EncryptedAssertion>`),
    ),
  );
}

/** SAML 2.0 Bindings, section 3.4.4.1: the signature is over the query as it was sent. */
function isSignedAddress(url: string, certificate: string | null): boolean {
  const query = url.split('?')[1] ?? '';
  const [signed, signature] = query.split('&Signature=');
  if (!certificate || !signature || !signed) return false;
  return createVerify('RSA-SHA256')
    .update(signed)
    .verify(certificate, Buffer.from(decodeURIComponent(signature), 'base64'));
}

function isSignedXml(xml: string, certificate: string | null): boolean {
  const signature = /<(?:\w+:)?Signature\b[\s\S]*<\/(?:\w+:)?Signature>/.exec(xml)?.[0];
  if (!certificate || !signature) return false;
  const checker = new SignedXml({ publicCert: certificate });
  checker.loadSignature(signature);
  return checker.checkSignature(xml);
}
