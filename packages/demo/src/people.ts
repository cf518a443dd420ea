/** How people get in: rules, a field of users, roles, and the simulated providers outside. */
import { type HttpClient, operations } from '@orchard/contract';
import { APP } from './scenario.js';

/** What the simulators tell of their providers of identity. */
export type IdentityAddresses = {
  openid: { issuer: string; clientId: string; secret: string };
  saml: { metadata: string };
  /** Null where this machine has no OpenLDAP. */
  directory: object | null;
};
const params = { app: APP.name, environment: 'dev' };

export async function seedPeople(owner: HttpClient, identity: IdentityAddresses): Promise<void> {
  // Who forgot the password gets in by a code, and apps may open the sign-in page.
  const signedIn = ['quillfell://signed-in'];
  await owner.call(operations.accounts.changeRules, {
    params,
    body: { codeByMail: true, codeBySms: true, tellNewSignIn: true, redirects: { 'hiker-ios': signedIn, 'hiker-android': signedIn } },
  });
  await owner.call(operations.accounts.defineField, {
    params: { ...params, field: 'club' },
    body: {
      type: 'choice',
      choices: ['north', 'south'],
      description: 'The section of the association',
      seenBy: 'user',
      changedBy: 'servers',
    },
  });
  await owner.call(operations.identity.changePage, { params, body: { name: APP.title } });
  await seedClubs(owner);
  await seedRoles(owner);
  await seedWays(owner, identity);
}

/** Some walk with a section of the association. */
async function seedClubs(owner: HttpClient): Promise<void> {
  const { items } = await owner.call(operations.users.list, { params, query: { limit: 24, sort: 'createdAt' } });
  for (const [i, { id }] of items.entries())
    await owner.call(operations.users.patch, {
      params: { ...params, user: id },
      body: { data: { club: i % 3 === 0 ? 'south' : 'north' } },
    });
}

async function seedRoles(owner: HttpClient): Promise<void> {
  const role = (name: string, description: string, rule: string | null) =>
    owner.call(operations.userRoles.put, { params: { ...params, role: name }, body: { description, rule } });
  await role('warden', 'Keeps a hut: opens stages, and answers bookings', null);
  await role('north', 'Walks with the northern section', "club = 'north'");
}

async function seedWays(owner: HttpClient, { openid, saml, directory }: IdentityAddresses): Promise<void> {
  const put = (way: string, body: object) =>
    owner.call(operations.signInWays.put, { params: { ...params, way }, body: { roles: { wardens: 'warden' }, ...body } as never });
  await put('ridge', { kind: 'openid', title: 'Sign in at the ridge', ...openid });
  await put('cairn-club', { kind: 'saml', title: 'Sign in with the Cairn Club', emailProved: true, ...saml });
  if (directory) await put('staff', { kind: 'directory', title: 'Staff of the huts', emailProved: true, ...directory });
}
