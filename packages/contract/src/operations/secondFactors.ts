import { z } from 'zod';
import { givenPassword, jsonObject, memberId, nothing, operation, time } from '../common.js';

const name = z.string().trim().min(1).max(100);
/** A code of an authenticator app, or a recovery code; spaces and hyphens do not matter. */
export const givenCode = z.string().max(40);
/** What `navigator.credentials` returned, as JSON (WebAuthn Level 3, section 5.1). */
export const passkeyResponse = jsonObject;
/** Options for `navigator.credentials`, as JSON. */
export const passkeyOptions = z.object({ publicKey: jsonObject });

export const factor = z
  .object({
    id: z.string(),
    kind: z.enum(['authenticator', 'passkey']),
    name: z.string(),
    createdAt: time,
    lastUsedAt: time.nullable(),
  })
  .meta({ id: 'SecondFactor' });
export type SecondFactor = z.infer<typeof factor>;
export const recoveryCodes = z.array(z.string()).describe('Ten codes, each for one use; shown this once');
export const added = factor.extend({
  recoveryCodes: recoveryCodes.optional().describe('With the first factor: ten codes, shown this once'),
});
export type AddedFactor = z.infer<typeof added>;

const person = { kind: 'member', role: 'viewer', person: true } as const;
const anyone = { kind: 'anyone' } as const;
const BASE = '/manage/v1/second-factors';

export const secondFactorOperations = {
  list: operation({
    id: 'secondFactors.list',
    command: 'second-factor list',
    method: 'GET',
    path: BASE,
    summary: 'Your second factors, and how many recovery codes are left',
    caller: person,
    reply: z.object({
      items: z.array(factor),
      recoveryCodes: z.int().describe('Not used yet'),
      demandedBy: z.array(z.string()).describe('Apps that give you the rights of a maintainer or owner only with a second factor'),
      passkeys: z.string().nullable().describe('Why passkeys cannot be used at this address; null where they can'),
    }),
  }),
  addAuthenticator: operation({
    id: 'secondFactors.addAuthenticator',
    changes: 'second factor',
    confirmed: true,
    method: 'POST',
    path: `${BASE}/authenticators`,
    summary: 'Begin to add an authenticator app (RFC 6238); it counts once a first code was sent',
    caller: person,
    body: z.strictObject({ name: name.default('Authenticator app') }),
    status: 201,
    reply: z.object({ id: z.string(), secret: z.string().describe('Base32, to type'), uri: z.string().describe('`otpauth:`, to scan') }),
  }),
  confirmAuthenticator: operation({
    id: 'secondFactors.confirmAuthenticator',
    changes: 'second factor',
    rate: 'sign-in',
    method: 'POST',
    path: `${BASE}/authenticators/{factor}/codes`,
    summary: 'Finish adding an authenticator app with its first code; your other sessions end',
    caller: person,
    params: z.object({ factor: z.string().max(64) }),
    body: z.strictObject({ code: givenCode }),
    reply: added,
    problems: ['not-found', 'second-factor-refused', 'rate-exceeded'],
  }),
  beginPasskey: operation({
    id: 'secondFactors.beginPasskey',
    changes: 'nothing',
    confirmed: true,
    method: 'POST',
    path: `${BASE}/passkey-challenges`,
    summary: 'Options for creating a passkey',
    caller: person,
    status: 201,
    reply: passkeyOptions,
    problems: ['wrong-state'],
  }),
  addPasskey: operation({
    id: 'secondFactors.addPasskey',
    changes: 'second factor',
    method: 'POST',
    path: `${BASE}/passkeys`,
    summary: 'Add the passkey that was created',
    caller: person,
    body: z.strictObject({ name: name.default('Passkey'), passkey: passkeyResponse }),
    status: 201,
    reply: added,
    problems: ['second-factor-refused', 'already-exists'],
  }),
  remove: operation({
    id: 'secondFactors.remove',
    changes: 'second factor',
    confirmed: true,
    command: 'second-factor remove',
    method: 'DELETE',
    path: `${BASE}/{factor}`,
    summary: 'Remove a second factor; with the last one the recovery codes go',
    caller: person,
    params: z.object({ factor: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  renewCodes: operation({
    id: 'secondFactors.renewCodes',
    changes: 'second factor',
    confirmed: true,
    command: 'second-factor recovery-codes',
    method: 'POST',
    path: '/manage/v1/recovery-codes',
    summary: 'Ten new recovery codes; earlier ones stop working',
    caller: person,
    status: 201,
    reply: z.object({ recoveryCodes }),
    problems: ['wrong-state'],
  }),
  reset: operation({
    id: 'members.resetSecondFactors',
    changes: 'member',
    confirmed: true,
    command: 'member reset-second-factor',
    method: 'DELETE',
    path: '/manage/v1/members/{member}/second-factors',
    summary: 'Remove all second factors of a member who has lost them; their sessions end',
    caller: { kind: 'member', role: 'owner', person: true },
    params: z.object({ member: memberId }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  challenge: operation({
    id: 'memberSessions.challenge',
    rate: 'sign-in',
    method: 'POST',
    path: '/manage/v1/passkey-challenges',
    summary: 'Options for signing in, or confirming who you are, with a passkey',
    caller: anyone,
    status: 201,
    reply: passkeyOptions,
    problems: ['wrong-state'],
  }),
  confirm: operation({
    id: 'memberSessions.confirm',
    changes: 'nothing',
    rate: 'sign-in',
    method: 'POST',
    path: '/manage/v1/session/confirmation',
    summary: 'Prove that it is you: with your second factor, or with your password where you have none',
    caller: person,
    body: z.strictObject({ password: givenPassword.optional(), code: givenCode.optional(), passkey: passkeyResponse.optional() }),
    reply: z.object({ until: time.describe('How long sensitive changes do not ask again') }),
    problems: ['second-factor-needed', 'second-factor-refused', 'sign-in-refused', 'rate-exceeded'],
  }),
};
