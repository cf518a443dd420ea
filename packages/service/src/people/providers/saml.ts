/** SAML 2.0, web browser profile: signed requests, signed and encrypted assertions, by `@node-saml/node-saml`. */
import { type CacheProvider, type Profile, SAML, type SamlConfig, ValidateInResponseTo } from '@node-saml/node-saml';
import type { Environment } from '../../platform/call.js';
import { namedPerson, type OutsidePerson, textsOf } from './person.js';
import { confirmationsOf, hasDocumentType, readSamlMetadata, type SamlProvider } from './samlXml.js';
import { openSecret, type WayOf } from './ways.js';

type Way = WayOf<'saml'>;
/** How a browser takes a request to the provider: by an address, or by a form that it sends. */
export type SamlRequest = { address: string; form: Record<string, string> | null };
export type SamlGround = { entityId: string; callbackUrl: string };

export class SamlProviders {
  constructor(private readonly now: () => number) {}

  /** @throws {Error} in words, for metadata that cannot be used */
  provider(way: Way): SamlProvider {
    const read = readSamlMetadata(way.metadata);
    if (typeof read === 'string') throw new Error(read);
    return read;
  }

  #open(environment: Environment, name: string, way: Way, { entityId, callbackUrl }: SamlGround, requestId: string): SAML {
    const { certificates, redirectAddress, postAddress, entityId: idpIssuer } = this.provider(way);
    const key = openSecret(environment, name, way.key as string);
    // A response belongs to the one request that was sent (SAML 2.0 Profiles, section 4.1.4.3): unasked ones are refused.
    const issued = new Date(this.now()).toISOString();
    const cacheProvider: CacheProvider = {
      saveAsync: async (id) => ({ value: id, createdAt: this.now() }),
      getAsync: async (id) => (id === requestId ? issued : null),
      removeAsync: async (id) => id,
    };
    const config: SamlConfig = {
      callbackUrl,
      issuer: entityId,
      audience: entityId,
      entryPoint: (redirectAddress ?? postAddress) as string,
      idpCert: certificates,
      idpIssuer,
      privateKey: key,
      publicCert: way.certificate as string,
      decryptionPvk: key,
      signatureAlgorithm: 'sha256',
      digestAlgorithm: 'sha256',
      identifierFormat: null,
      disableRequestedAuthnContext: true,
      wantAssertionsSigned: true,
      // Some sign the response, too; the assertion is what counts.
      wantAuthnResponseSigned: false,
      validateInResponseTo: ValidateInResponseTo.always,
      acceptedClockSkewMs: way.skewS * 1000,
      maxAssertionAgeMs: 10 * 60_000,
      // SAML 2.0 Bindings, section 3.5.4: a posted message is not compressed.
      skipRequestCompression: redirectAddress === null,
      authnRequestBinding: redirectAddress === null ? 'HTTP-POST' : 'HTTP-Redirect',
      generateUniqueId: () => requestId,
      cacheProvider,
    };
    return new SAML(config);
  }

  async begin(
    environment: Environment,
    name: string,
    way: Way,
    ground: SamlGround,
    ids: { requestId: string; state: string },
  ): Promise<SamlRequest> {
    const saml = this.#open(environment, name, way, ground, ids.requestId);
    const { redirectAddress, postAddress } = this.provider(way);
    if (redirectAddress !== null) return { address: await saml.getAuthorizeUrlAsync(ids.state, undefined, {}), form: null };
    const message = await saml.getAuthorizeMessageAsync(ids.state);
    return { address: postAddress as string, form: message as Record<string, string> };
  }

  /** Whom a response names. @throws {Error} that says what is wrong with it */
  async end(
    environment: Environment,
    name: string,
    way: Way,
    ground: SamlGround,
    answer: { response: string; requestId: string },
  ): Promise<OutsidePerson> {
    if (hasDocumentType(Buffer.from(answer.response, 'base64').toString('utf8')))
      throw new Error('The response has a document type (<!DOCTYPE), which is not read.');
    const saml = this.#open(environment, name, way, ground, answer.requestId);
    const { profile } = await saml.validatePostResponseAsync({ SAMLResponse: answer.response });
    if (!profile) throw new Error('The response names nobody.');
    if (!profile.nameID) throw new Error('The assertion has no NameID.');
    const { entityId } = this.provider(way);
    if (profile.issuer !== entityId) throw new Error(`The assertion is by ${profile.issuer}, and the metadata is of ${entityId}.`);
    // SAML 2.0 Profiles, section 4.1.4.2: what is signed names the address it was posted to, and the request.
    const confirmations = confirmationsOf(profile.getAssertionXml?.() ?? '');
    if (!confirmations.some(({ recipient, inResponseTo }) => recipient === ground.callbackUrl && inResponseTo === answer.requestId))
      throw new Error(`The assertion is for another address than ${ground.callbackUrl}, or InResponseTo names another request.`);
    return personOf(entityId, profile, way);
  }

  /** Our own metadata, for the provider. */
  metadata(environment: Environment, name: string, way: Way, ground: SamlGround): string {
    const certificate = way.certificate as string;
    return this.#open(environment, name, way, ground, '_metadata').generateServiceProviderMetadata(certificate, certificate);
  }
}

function personOf(issuer: string, profile: Profile, { attributes, emailProved }: Way): OutsidePerson {
  const given = (profile.attributes ?? profile) as Record<string, unknown>;
  const one = (name: string) => textsOf(given[name])[0] ?? null;
  const isAddress = profile.nameIDFormat?.endsWith(':emailAddress');
  return {
    ...namedPerson(issuer, profile.nameID, one(attributes.email) ?? (isAddress ? profile.nameID : null), one(attributes.name)),
    emailProved,
    groups: textsOf(given[attributes.groups]),
  };
}

/** Why a response is refused, for the team: the mistakes that people make. */
export function samlWords(error: Error): string {
  const { message } = error;
  if (/Invalid signature|Error: .*certificate/i.test(message))
    return 'The signature is not by a certificate of the metadata. If the provider has a new one, paste its metadata anew.';
  if (/audience/i.test(message))
    return `The assertion is for another audience: give the provider our metadata, with our entity id. (${message})`;
  if (/not yet valid|expired|NotOnOrAfter|NotBefore|subject confirmation/i.test(message))
    return `A clock is off, or the assertion is old: ${message}.`;
  if (/InResponseTo/i.test(message)) return 'The response belongs to no request of ours, or to one that was answered before.';
  return message;
}
