/** What users prove themselves with besides a password: authenticator apps, passkeys and recovery codes. */
import { z } from 'zod';
import { ENVIRONMENT, environmentParams, givenPassword, nothing, operation, uuid } from '../common.js';
import type { ProblemName } from '../problems.js';
import { added, factor, givenCode, passkeyOptions, passkeyResponse, recoveryCodes } from './secondFactors.js';
import { tokens } from './users.js';

const signedIn = { kind: 'app', user: 'required' } as const;
const anApp = { kind: 'app', user: 'optional' } as const;
const MINE = '/app/v1/users/me';
const ofUser = environmentParams.extend({ user: uuid });
const ofFactor = z.object({ factor: z.string().max(64) });
/** What shows that it is still the owner who calls. */
const proof = {
  password: givenPassword.optional(),
  code: givenCode.optional().describe('Of the authenticator app, or a recovery code'),
};
const name = z.string().trim().min(1).max(100);
const PROOF_PROBLEMS: ProblemName[] = ['second-factor-needed', 'second-factor-refused', 'sign-in-refused', 'rate-exceeded'];

export const userFactorOperations = {
  list: operation({
    id: 'userFactors.list',
    method: 'GET',
    path: `${MINE}/second-factors`,
    summary: 'The signed-in user’s authenticator apps and passkeys, and how many recovery codes are left',
    caller: signedIn,
    reply: z.object({
      items: z.array(factor),
      recoveryCodes: z.int().describe('Not used yet'),
      passkeys: z.string().nullable().describe('Why passkeys cannot be used; null where they can'),
    }),
  }),
  addAuthenticator: operation({
    id: 'userFactors.addAuthenticator',
    rate: 'sign-in',
    method: 'POST',
    path: `${MINE}/authenticators`,
    summary: 'Begin to add an authenticator app (RFC 6238); it counts once a first code was sent',
    caller: signedIn,
    body: z.strictObject({ ...proof, name: name.default('Authenticator app') }),
    status: 201,
    reply: z.object({ id: z.string(), secret: z.string().describe('Base32, to type'), uri: z.string().describe('`otpauth:`, to scan') }),
    problems: PROOF_PROBLEMS,
  }),
  confirmAuthenticator: operation({
    id: 'userFactors.confirmAuthenticator',
    rate: 'sign-in',
    method: 'POST',
    path: `${MINE}/authenticators/{factor}/codes`,
    summary: 'Finish adding an authenticator app with its first code; the user’s other sessions end',
    caller: signedIn,
    params: ofFactor,
    body: z.strictObject({ code: givenCode }),
    reply: added,
    problems: ['not-found', 'second-factor-refused', 'rate-exceeded'],
  }),
  beginPasskey: operation({
    id: 'userFactors.beginPasskey',
    rate: 'sign-in',
    method: 'POST',
    path: `${MINE}/passkey-challenges`,
    summary: 'Options for creating a passkey (WebAuthn Level 3)',
    caller: signedIn,
    body: z.strictObject(proof),
    status: 201,
    reply: passkeyOptions,
    problems: [...PROOF_PROBLEMS, 'wrong-state'],
  }),
  addPasskey: operation({
    id: 'userFactors.addPasskey',
    rate: 'sign-in',
    method: 'POST',
    path: `${MINE}/passkeys`,
    summary: 'Add the passkey that was created',
    caller: signedIn,
    body: z.strictObject({ name: name.default('Passkey'), passkey: passkeyResponse }),
    status: 201,
    reply: added,
    problems: ['second-factor-refused'],
  }),
  remove: operation({
    id: 'userFactors.remove',
    rate: 'sign-in',
    method: 'POST',
    path: `${MINE}/second-factors/{factor}/removal`,
    summary: 'Remove an authenticator app or a passkey; with the last one the recovery codes go',
    caller: signedIn,
    params: ofFactor,
    body: z.strictObject(proof),
    status: 204,
    reply: nothing,
    problems: [...PROOF_PROBLEMS, 'not-found'],
  }),
  renewCodes: operation({
    id: 'userFactors.renewCodes',
    rate: 'sign-in',
    method: 'POST',
    path: `${MINE}/recovery-codes`,
    summary: 'Ten new recovery codes; earlier ones stop working',
    caller: signedIn,
    body: z.strictObject(proof),
    status: 201,
    reply: z.object({ recoveryCodes }),
    problems: [...PROOF_PROBLEMS, 'wrong-state'],
  }),
  challenge: operation({
    id: 'userFactors.challenge',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/passkey-challenges',
    summary: 'Options for signing in with a passkey',
    caller: anApp,
    status: 201,
    reply: passkeyOptions,
    problems: ['wrong-state'],
  }),
  signInByPasskey: operation({
    id: 'userFactors.signInByPasskey',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/sessions/passkey',
    summary: 'Sign in with a passkey; no second factor is asked for',
    caller: anApp,
    body: z.strictObject({ passkey: passkeyResponse }),
    status: 201,
    reply: tokens,
    problems: ['second-factor-refused', 'wrong-state', 'rate-exceeded', 'app-outdated', 'sign-in-refused'],
  }),
  signInBySecondFactor: operation({
    id: 'userFactors.signInBySecondFactor',
    rate: 'sign-in',
    method: 'POST',
    path: '/app/v1/sessions/second-factor',
    summary: 'Finish a sign-in that was answered with second-factor-needed: its ticket, and a code',
    caller: anApp,
    body: z.strictObject({ ticket: z.string().max(2000), code: givenCode }),
    status: 201,
    reply: tokens,
    problems: ['link-refused', 'second-factor-refused', 'rate-exceeded', 'app-outdated', 'sign-in-refused'],
  }),
  ofUser: operation({
    id: 'userFactors.ofUser',
    command: 'user second-factors',
    method: 'GET',
    path: `${ENVIRONMENT}/users/{user}/second-factors`,
    summary: 'The authenticator apps and passkeys of a user',
    caller: { kind: 'member', role: 'viewer' },
    params: ofUser,
    reply: z.object({ items: z.array(factor), recoveryCodes: z.int() }),
    problems: ['not-found'],
  }),
  reset: operation({
    id: 'userFactors.reset',
    changes: 'user',
    confirmed: true,
    command: 'user reset-second-factor',
    method: 'DELETE',
    path: `${ENVIRONMENT}/users/{user}/second-factors`,
    summary: 'Remove all second factors of a user who has lost them; their sessions end',
    caller: { kind: 'member', role: 'maintainer' },
    params: ofUser,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
