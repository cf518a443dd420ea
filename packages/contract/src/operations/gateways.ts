import { ANSWER_MEANINGS } from '@orchard/core/words';
import { z } from 'zod';
import { ENVIRONMENT, actor, environmentParams, jsonObject, listQuery, nothing, operation, page, slug, time, uuid } from '../common.js';
import { STAGES } from './devices.js';

export const GATEWAY_KINDS = ['web-push', 'certificate', 'token', 'smpp', 'http', 'smtp'] as const;
export type GatewayKind = (typeof GATEWAY_KINDS)[number];

const texts = z.record(z.string().max(100), z.string().max(2000));
const json = z.unknown();
const pointer = z.string().max(300);
/** The shape of a gateway mapping; the names in its templates and its sample are checked later. */
export const gatewayMapping = z
  .strictObject({
    mapping: z.literal(1),
    title: z.string().trim().min(1).max(200),
    for: z.enum(['certificate', 'token', 'http']),
    protocol: z.enum(['h2', 'http/1.1']),
    encoding: z.enum(['json', 'form']).optional(),
    maxBytes: z.int().min(1).max(1_000_000),
    words: z.record(z.string().regex(/^[a-z][A-Za-z0-9]{0,40}$/), z.strictObject({ of: z.string().max(100), is: texts })).optional(),
    request: z.strictObject({
      method: z.enum(['POST', 'PUT', 'GET']),
      address: z.string().min(1).max(2000),
      headers: texts,
      body: json.optional(),
    }),
    read: z
      .record(z.string().regex(/^[a-z][A-Za-z0-9]{0,40}$/, 'A lower-case letter, then up to 40 letters or digits.'), pointer)
      .optional(),
    answers: z
      .array(z.strictObject({ if: z.string().min(1).max(1000), is: z.enum(ANSWER_MEANINGS) }))
      .min(1)
      .max(50),
    messageId: z.string().optional(),
    said: z.string().optional(),
    overlayAt: pointer.optional(),
    certificate: z
      .strictObject({
        packageIdentifier: z.string().max(20).optional(),
        stage: z.strictObject({ in: z.string().max(20), trial: z.string().max(100), live: z.string().max(100) }).optional(),
      })
      .optional(),
    token: z
      .discriminatedUnion('by', [
        z.strictObject({
          by: z.literal('signed'),
          header: texts.optional(),
          claims: z.record(z.string().max(100), json),
          lifeS: z.int().min(60).max(86_400),
        }),
        z.strictObject({
          by: z.literal('exchanged'),
          scope: z.string().max(500).optional(),
          lifeS: z.int().min(60).max(86_400),
          file: z.strictObject({
            type: z.strictObject({ at: pointer, is: z.string().max(200) }).optional(),
            project: pointer,
            account: pointer,
            privateKey: pointer,
            keyId: pointer.optional(),
            tokenAddress: pointer,
          }),
        }),
      ])
      .optional(),
    sample: z.strictObject({
      values: jsonObject,
      request: z.strictObject({ method: z.string(), address: z.string(), headers: texts, body: json.optional() }),
      answers: z
        .array(z.strictObject({ status: z.int(), headers: texts.optional(), body: json.optional(), is: z.enum(ANSWER_MEANINGS) }))
        .min(1)
        .max(50),
    }),
  })
  .meta({ id: 'GatewayMapping' });

const address = z.url({ protocol: /^https?$/, error: 'A base address, such as https://push.quillfell.example.' }).max(500);
const host = z.string().regex(/^[A-Za-z0-9]([A-Za-z0-9.-]{0,251}[A-Za-z0-9])?$/, 'A host name or an IPv4 address.');
const port = z.int().min(1).max(65_535);
export const trust = z
  .string()
  .max(20_000)
  .regex(
    /-----BEGIN CERTIFICATE-----[\s\S]+-----END CERTIFICATE-----/,
    'The PEM of a certificate, which begins with -----BEGIN CERTIFICATE-----.',
  )
  .describe('PEM of the certificate authority to trust instead of the public ones');
const sender = z
  .string()
  .regex(/^(\+?\d{3,15}|[A-Za-z][A-Za-z0-9 -]{0,10})$/, 'A number, or a name of up to 11 characters that begins with one.');
const countries = z.string().regex(/^[A-Z]{2}$/, 'Two capitals of ISO 3166-1.');

/** Settings that are no secret, by kind. */
const pushSettings = { address, trust: trust.optional() };
const smsSettings = { sender, senders: z.record(countries, sender).optional().describe('Another sender in some countries') };
const smppSettings = {
  host,
  port,
  tls: z.boolean().default(false),
  trust: trust.optional(),
  systemId: z.string().min(1).max(15, 'At most 15 characters (SMPP 3.4 section 5.2.1).'),
  systemType: z.string().max(12).default(''),
  binds: z.int().min(1).max(10).default(1).describe('Connections held at a time'),
  window: z.int().min(1).max(100).default(10).describe('Messages in flight on one connection'),
  enquireMs: z.int().min(1000).max(300_000).default(30_000).describe('Keep-alive interval of an idle connection'),
  ...smsSettings,
};
const smtpSettings = {
  host,
  port,
  security: z.enum(['starttls', 'tls', 'none']).default('starttls'),
  trust: trust.optional(),
  from: z.string().min(3).max(254).describe('Sender, such as `Quillfell Huts <huts@quillfell.example>`'),
  user: z.string().max(254).optional(),
  bouncesTo: z.email().max(200).optional().describe('Where failure notices are sent; the part before @ gets a mark for each message'),
};
const pkcs12 = z.base64('The file in base64.').max(100_000);
const password = z.string().max(200);
const common = { name: slug, stage: z.enum(STAGES) };

const certificateGateway = z.strictObject({
  kind: z.literal('certificate'),
  ...common,
  client: slug,
  settings: z.strictObject(pushSettings),
  certificate: pkcs12.describe('PKCS#12 file in base64, or the certificate that was signed for a signing request'),
  password: password.default(''),
  mapping: gatewayMapping,
});
const tokenGateway = z.strictObject({
  kind: z.literal('token'),
  ...common,
  client: slug,
  settings: z.strictObject({
    ...pushSettings,
    keyId: z.string().max(100).optional().describe('With a signing key: its id'),
    issuer: z.string().max(200).optional().describe('With a signing key: who signs'),
  }),
  keyFile: z.string().max(20_000).describe('The key file as text: PEM of a signing key, or JSON of a service account'),
  mapping: gatewayMapping,
});
const smppGateway = z.strictObject({
  kind: z.literal('smpp'),
  ...common,
  settings: z.strictObject(smppSettings),
  password: z.string().max(8, 'At most 8 characters (SMPP 3.4 section 5.2.2).'),
});
const httpGateway = z.strictObject({
  kind: z.literal('http'),
  ...common,
  settings: z.strictObject({ address, trust: trust.optional(), user: z.string().max(200).optional(), ...smsSettings }),
  password: password.default('').describe('Sent as Basic with `user`, or else as a bearer token'),
  mapping: gatewayMapping,
});
const smtpGateway = z.strictObject({
  kind: z.literal('smtp'),
  ...common,
  settings: z.strictObject(smtpSettings),
  password: password.default(''),
});
export const newGateway = z.discriminatedUnion('kind', [certificateGateway, tokenGateway, smppGateway, httpGateway, smtpGateway]);
/** Those that reach members, who have no app of the installation. */
export const newInstallationGateway = z.discriminatedUnion('kind', [smppGateway, httpGateway, smtpGateway]);
export type NewGateway = z.output<typeof newGateway>;

const newCredential = {
  settings: jsonObject.optional().describe('Merged into the settings (RFC 7396)'),
  certificate: pkcs12.optional(),
  keyFile: z.string().max(20_000).optional(),
  password: password.optional(),
};
export const changedGateway = z.strictObject({
  ...newCredential,
  strandDevices: z.boolean().optional().describe('Change it although registered devices could not be reached any more'),
});
const credentialPreview = z
  .object({
    credential: z.object({ text: z.string(), expiresAt: time.nullable() }).nullable().describe('What the file holds; null without one'),
    devices: z.int().describe('Registered devices that the gateway reaches'),
    stranded: z.int().describe('Of those, how many could not be reached any more'),
    why: z.string().nullable(),
  })
  .meta({ id: 'CredentialPreview' });
export type CredentialPreview = z.infer<typeof credentialPreview>;

const subject = {
  commonName: z.string().trim().min(1).max(64).optional().describe('The name of the client, if left out'),
  organization: z.string().trim().min(1).max(64).optional(),
  country: z
    .string()
    .regex(/^[A-Z]{2}$/, 'Two capitals of ISO 3166-1, such as NO.')
    .optional(),
  mail: z.email().max(128).optional(),
};
const signingRequest = z
  .object({
    id: uuid,
    client: z.string(),
    subject: z.object({ ...subject, commonName: z.string() }),
    pem: z.string().describe('PKCS#10 (RFC 2986) in PEM, for the push network to sign'),
    createdBy: actor,
    createdAt: time,
  })
  .meta({ id: 'SigningRequest' });
export type SigningRequest = z.infer<typeof signingRequest>;

/** One condition for the first message to arrive. */
export const readinessItem = z.object({ what: z.string(), ready: z.boolean(), text: z.string() });
export const gatewayCheck = z
  .object({ ok: z.boolean(), at: time, steps: z.array(z.object({ what: z.string(), ok: z.boolean(), text: z.string() })) })
  .meta({ id: 'GatewayCheck' });
export type GatewayCheck = z.infer<typeof gatewayCheck>;

export const gateway = z
  .object({
    name: z.string(),
    kind: z.enum(GATEWAY_KINDS),
    stage: z.enum(STAGES),
    client: z.string().nullable(),
    settings: jsonObject,
    credential: z
      .object({ text: z.string(), expiresAt: time.nullable() })
      .describe('A description of the credential, never the credential itself'),
    mapping: z.object({ version: z.int(), title: z.string() }).nullable(),
    readiness: z.array(readinessItem),
    ready: z.boolean(),
    check: gatewayCheck.nullable().describe('The latest check'),
    lastDay: z
      .object({ accepted: z.int(), failed: z.int(), lastAnswerAt: time.nullable() })
      .describe('Deliveries through it in the last 24 hours'),
    createdAt: time,
    updatedAt: time,
  })
  .meta({ id: 'Gateway' });
export type Gateway = z.infer<typeof gateway>;

const mappingVersion = z.object({ version: z.int(), document: gatewayMapping, createdBy: actor, createdAt: time });
const one = environmentParams.extend({ gateway: slug });
const viewer = { kind: 'member', role: 'viewer' } as const;
const maintainer = { kind: 'member', role: 'maintainer' } as const;

export const gatewayOperations = {
  list: operation({
    id: 'gateways.list',
    command: 'gateway list',
    method: 'GET',
    path: `${ENVIRONMENT}/gateways`,
    summary: 'Gateways of an environment, with what each is missing',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(gateway) }),
  }),
  create: operation({
    id: 'gateways.create',
    changes: 'gateway',
    method: 'POST',
    path: `${ENVIRONMENT}/gateways`,
    summary: 'Add a gateway; its credential is checked before it is stored',
    caller: maintainer,
    params: environmentParams,
    body: newGateway,
    status: 201,
    reply: gateway,
    problems: ['already-exists', 'not-found', 'credential-refused', 'mapping-refused'],
  }),
  read: operation({
    id: 'gateways.read',
    command: 'gateway show',
    method: 'GET',
    path: `${ENVIRONMENT}/gateways/{gateway}`,
    summary: 'One gateway',
    caller: viewer,
    params: one,
    reply: gateway,
    problems: ['not-found'],
  }),
  patch: operation({
    id: 'gateways.patch',
    changes: 'gateway',
    method: 'PATCH',
    path: `${ENVIRONMENT}/gateways/{gateway}`,
    summary: 'Change settings or credential',
    caller: maintainer,
    params: one,
    body: changedGateway,
    reply: gateway,
    problems: ['not-found', 'credential-refused', 'devices-stranded'],
  }),
  previewCredential: operation({
    id: 'gateways.previewCredential',
    changes: 'nothing',
    method: 'POST',
    path: `${ENVIRONMENT}/gateways/{gateway}/credential`,
    summary: 'What a new credential is, and how many registered devices it would strand',
    caller: maintainer,
    params: one,
    body: z.strictObject(newCredential),
    reply: credentialPreview,
    problems: ['not-found', 'credential-refused', 'wrong-state'],
  }),
  signingRequests: operation({
    id: 'gateways.signingRequests',
    command: 'signing-request list',
    method: 'GET',
    path: `${ENVIRONMENT}/signing-requests`,
    summary: 'Signing requests whose certificate has not come back',
    caller: maintainer,
    params: environmentParams,
    reply: z.object({ items: z.array(signingRequest) }),
  }),
  addSigningRequest: operation({
    id: 'gateways.addSigningRequest',
    changes: 'signing request',
    command: 'signing-request add <client>',
    method: 'POST',
    path: `${ENVIRONMENT}/signing-requests`,
    summary: 'Make a key and a signing request for a client certificate; the key stays here',
    caller: maintainer,
    params: environmentParams,
    body: z.strictObject({ client: slug, ...subject }),
    status: 201,
    reply: signingRequest,
    problems: ['not-found', 'wrong-state'],
  }),
  removeSigningRequest: operation({
    id: 'gateways.removeSigningRequest',
    changes: 'signing request',
    command: 'signing-request remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/signing-requests/{request}`,
    summary: 'Delete a signing request with its key',
    caller: maintainer,
    params: environmentParams.extend({ request: uuid }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  remove: operation({
    id: 'gateways.remove',
    changes: 'gateway',
    command: 'gateway remove',
    method: 'DELETE',
    path: `${ENVIRONMENT}/gateways/{gateway}`,
    summary: 'Remove a gateway and its credential',
    caller: maintainer,
    params: one,
    status: 204,
    reply: nothing,
    problems: ['not-found', 'wrong-state'],
  }),
  check: operation({
    id: 'gateways.check',
    changes: 'nothing',
    command: 'gateway check',
    method: 'POST',
    path: `${ENVIRONMENT}/gateways/{gateway}/check`,
    summary: 'Check a gateway without sending anything',
    caller: { kind: 'member', role: 'developer' },
    params: one,
    reply: gatewayCheck,
    problems: ['not-found'],
  }),
  rotate: operation({
    id: 'gateways.rotate',
    changes: 'gateway',
    method: 'POST',
    path: `${ENVIRONMENT}/gateways/{gateway}/rotate`,
    summary: 'Rotate the web push key; devices subscribed with the previous key stay reachable until they subscribe again',
    caller: maintainer,
    params: one,
    reply: gateway,
    problems: ['not-found', 'wrong-state'],
  }),
  mappings: operation({
    id: 'gateways.mappings',
    method: 'GET',
    path: `${ENVIRONMENT}/gateways/{gateway}/mappings`,
    summary: 'Every version of a gateway’s mapping, latest first',
    caller: viewer,
    params: one,
    query: listQuery.pick({ limit: true }),
    reply: page(mappingVersion),
    problems: ['not-found'],
  }),
  putMapping: operation({
    id: 'gateways.putMapping',
    changes: 'gateway',
    method: 'POST',
    path: `${ENVIRONMENT}/gateways/{gateway}/mappings`,
    summary: 'Activate a new version of the mapping, if its sample passes',
    caller: maintainer,
    params: one,
    body: gatewayMapping,
    status: 201,
    reply: mappingVersion,
    problems: ['not-found', 'mapping-refused', 'wrong-state'],
  }),
};
