/** XML of SAML as we read it ourselves: what a provider says of itself (SAML 2.0 Metadata, section 2.4.3), and for whom an assertion is. */
import { X509Certificate } from 'node:crypto';
import { DOMParser, type Element, MIME_TYPE, onErrorStopParsing } from '@xmldom/xmldom';

const METADATA = 'urn:oasis:names:tc:SAML:2.0:metadata';
const ASSERTION = 'urn:oasis:names:tc:SAML:2.0:assertion';
const SIGNATURES = 'http://www.w3.org/2000/09/xmldsig#';
const BINDINGS = 'urn:oasis:names:tc:SAML:2.0:bindings:';

export type SamlProvider = {
  entityId: string;
  /** PEM; a provider that changes its key lists both. */
  certificates: string[];
  /** Where it takes requests, by binding (SAML 2.0 Bindings, sections 3.4 and 3.5). */
  redirectAddress: string | null;
  postAddress: string | null;
};

/** A document type could define entities, which make a small text a large one or read files (XML 1.0 section 4.2.2). */
export const hasDocumentType = (xml: string): boolean => /<!DOCTYPE/i.test(xml);

/** @returns the provider, or in words what is wrong with its metadata */
export function readSamlMetadata(xml: string): SamlProvider | string {
  if (hasDocumentType(xml)) return 'Metadata with a document type (<!DOCTYPE) is not read. Ask the provider for metadata without one.';
  const root = parse(xml);
  if (!root) return 'This is no XML. Paste the provider’s metadata, the document that begins with <EntityDescriptor.';
  const entities = named(root, METADATA, 'EntityDescriptor').filter((entity) => named(entity, METADATA, 'IDPSSODescriptor').length > 0);
  if (entities.length !== 1)
    return entities.length === 0
      ? 'There is no IDPSSODescriptor: this is the metadata of something else than a provider, perhaps our own.'
      : 'There are several providers in it. Paste the EntityDescriptor of one.';
  const entity = entities[0] as Element;
  const idp = named(entity, METADATA, 'IDPSSODescriptor')[0] as Element;
  const certificates = named(idp, METADATA, 'KeyDescriptor')
    .filter((key) => key.getAttribute('use') !== 'encryption')
    .flatMap((key) => named(key, SIGNATURES, 'X509Certificate').map((one) => pemOf(one.textContent ?? '')));
  if (certificates.length === 0) return 'There is no certificate for signing in it, so nothing the provider says could be checked.';
  if (certificates.some((certificate) => certificate === null)) return 'A certificate in it cannot be read.';
  const services = named(idp, METADATA, 'SingleSignOnService');
  const at = (binding: string) =>
    services.find((one) => one.getAttribute('Binding') === BINDINGS + binding)?.getAttribute('Location') ?? null;
  const [redirectAddress, postAddress] = [at('HTTP-Redirect'), at('HTTP-POST')];
  if (redirectAddress === null && postAddress === null)
    return 'There is no SingleSignOnService with the binding HTTP-Redirect or HTTP-POST in it.';
  return { entityId: entity.getAttribute('entityID') ?? '', certificates: certificates as string[], redirectAddress, postAddress };
}

function parse(xml: string): Element | null {
  try {
    return new DOMParser({ onError: onErrorStopParsing }).parseFromString(xml, MIME_TYPE.XML_TEXT).documentElement;
  } catch {
    return null;
  }
}

/** The element itself, or those below it. */
function named(element: Element, namespace: string, name: string): Element[] {
  const below = [...element.getElementsByTagNameNS(namespace, name)];
  return element.localName === name && element.namespaceURI === namespace ? [element, ...below] : below;
}

function pemOf(base64: string): string | null {
  const lines = base64.replace(/\s/g, '').match(/.{1,64}/g) ?? [];
  const pem = `-----BEGIN CERTIFICATE-----\n${lines.join('\n')}\n-----END CERTIFICATE-----\n`;
  try {
    new X509Certificate(pem);
    return pem;
  } catch {
    return null;
  }
}

/** For which address and request the subject of an assertion is confirmed. */
export function confirmationsOf(assertion: string): { recipient: string | null; inResponseTo: string | null }[] {
  const root = parse(assertion);
  const found = root ? named(root, ASSERTION, 'SubjectConfirmationData') : [];
  return found.map((data) => ({ recipient: data.getAttribute('Recipient'), inResponseTo: data.getAttribute('InResponseTo') }));
}
