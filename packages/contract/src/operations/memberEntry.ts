/** Members of the team sign in to the console at providers outside. */
import { z } from 'zod';
import { nothing, operation, slug } from '../common.js';
import { ROLES } from '../operation.js';
import { givenCode } from './secondFactors.js';
import { newSignInWay, signInWay, steps, tried } from './signInWays.js';

const BASE = '/manage/v1/member-entry';
const PAGE = '/member-sign-in/ways/{way}';
const owner = { kind: 'member', role: 'owner', person: true } as const;
const anyone = { kind: 'anyone' } as const;
const params = z.object({ way: slug });
const FORM = ['application/x-www-form-urlencoded'];
const groups = z
  .record(z.string().min(1).max(300), z.array(z.strictObject({ app: slug, environment: slug, role: z.enum(ROLES) })).max(50))
  .describe(
    'By group of the provider: roles in environments. Whoever is in a group may join; who leaves it loses its roles at the next sign-in',
  );
const memberWay = z.object({ way: signInWay, groups }).meta({ id: 'MemberEntryWay' });
export type MemberEntryWay = z.output<typeof memberWay>;

export const memberEntryOperations = {
  offered: operation({
    id: 'memberEntry.offered',
    method: 'GET',
    path: `${BASE}/offered`,
    summary: 'The providers at which members may sign in, for the sign-in page',
    caller: anyone,
    reply: z.object({ items: z.array(z.object({ name: z.string(), title: z.string(), isDirectory: z.boolean() })) }),
  }),
  list: operation({
    id: 'memberEntry.list',
    command: 'member-entry list',
    method: 'GET',
    path: `${BASE}/ways`,
    summary: 'Providers at which members sign in, and the roles of their groups',
    caller: owner,
    reply: z.object({ items: z.array(memberWay) }),
  }),
  put: operation({
    id: 'memberEntry.put',
    changes: 'member',
    confirmed: true,
    command: 'member-entry set <json>',
    method: 'PUT',
    path: `${BASE}/ways/{way}`,
    summary: 'Let members sign in at a provider; without `secret`, the one before stays',
    caller: owner,
    params,
    body: z.strictObject({ way: newSignInWay, groups: groups.default({}) }),
    reply: memberWay,
    problems: ['invalid-input', 'not-found'],
  }),
  remove: operation({
    id: 'memberEntry.remove',
    changes: 'member',
    confirmed: true,
    command: 'member-entry remove',
    method: 'DELETE',
    path: `${BASE}/ways/{way}`,
    summary: 'Take a provider of members away; the members stay',
    caller: owner,
    params,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
  check: operation({
    id: 'memberEntry.check',
    changes: 'nothing',
    command: 'member-entry check',
    method: 'POST',
    path: `${BASE}/ways/{way}/check`,
    summary: 'Whether a provider of members can be used: step by step, up to the first that fails',
    caller: owner,
    params,
    body: tried,
    reply: steps,
    problems: ['not-found'],
  }),
  atDirectory: operation({
    id: 'memberEntry.atDirectory',
    changes: 'nothing',
    rate: 'sign-in',
    method: 'POST',
    path: `${BASE}/directory-sessions`,
    summary: 'Sign in to the console with a name and password of a directory',
    caller: anyone,
    body: z.strictObject({ way: slug, user: z.string().min(1).max(200), password: z.string().min(1).max(256), code: givenCode.optional() }),
    reply: z.object({ csrf: z.string().optional() }),
    problems: ['not-found', 'sign-in-refused', 'second-factor-needed', 'second-factor-refused', 'rate-exceeded', 'busy'],
  }),
  finish: operation({
    id: 'memberEntry.finish',
    changes: 'nothing',
    rate: 'sign-in',
    method: 'POST',
    path: `${BASE}/second-factor`,
    summary: 'Finish a sign-in at a provider with the second factor of the member',
    caller: anyone,
    body: z.strictObject({ ticket: z.string().max(2000), code: givenCode }),
    reply: z.object({ csrf: z.string().optional() }),
    problems: ['link-refused', 'second-factor-refused', 'rate-exceeded'],
  }),
  there: operation({
    id: 'memberEntry.there',
    rate: 'sign-in',
    method: 'GET',
    path: PAGE,
    summary: 'Leads from the console’s sign-in page to a provider',
    caller: anyone,
    params,
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  back: operation({
    id: 'memberEntry.back',
    rate: 'sign-in',
    method: 'GET',
    path: `${PAGE}/return`,
    summary: 'Where a provider leads members back to',
    caller: anyone,
    params,
    query: z.looseObject({}),
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  posted: operation({
    id: 'memberEntry.posted',
    changes: 'nothing',
    rate: 'sign-in',
    method: 'POST',
    path: `${PAGE}/return`,
    summary: 'What a provider of SAML posts of a member',
    caller: anyone,
    params,
    rawBody: FORM,
    reply: z.string(),
    replyTypes: ['text/html'],
    problems: ['not-found'],
  }),
  metadata: operation({
    id: 'memberEntry.metadata',
    method: 'GET',
    path: `${PAGE}/metadata`,
    summary: 'Our own metadata, for a provider of SAML of members',
    caller: anyone,
    params,
    reply: z.string(),
    replyTypes: ['application/samlmetadata+xml'],
    problems: ['not-found'],
  }),
};
