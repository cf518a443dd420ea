/** Users' fields and roles, who may sign up, ways to sign in, and the mails about accounts. */
import { counted, operations, type SignInWayDocument } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import type { SetupCalls } from '../calls.js';
import { plainField } from './collections.js';
import { byName, type KindWays, losing, type NamedParts, named, once, pick } from './kind.js';

const own = operations.accounts;

export const userFieldWays = byName('the user field', {
  read: async (calls) => {
    const { items } = await calls.read(own.fields);
    return Object.fromEntries(items.map(({ name, ...field }) => [name, plainField(field as JsonObject)]));
  },
  normal: plainField,
  put: (calls, field, body) => calls.write(own.defineField, { params: { field }, body }),
  remove: (calls, field) => calls.write(own.removeField, { params: { field } }),
});

export const roleWays = byName('the role', {
  read: async (calls) =>
    named(
      (await calls.read(operations.userRoles.list)).items.filter(({ isDefined }) => isDefined),
      ['description', 'rule'],
    ),
  put: (calls, role, body) => calls.write(operations.userRoles.put, { params: { role }, body }),
  remove: (calls, role) => calls.write(operations.userRoles.remove, { params: { role } }),
  judge: async ({ action, before, name }, calls) => {
    if (action !== 'drop' || before?.rule === null) return { effects: [] };
    const users = (await calls.read(operations.userRoles.list)).items.find((role) => role.name === name)?.users ?? 0;
    return losing(`${counted(users, 'user')} may lose the role, where it came from its rule`, users);
  },
});

export const entryWays = once(
  'who may sign up',
  async (calls) => {
    const { mailMissing: _, ...rules } = await calls.read(own.rules);
    return rules as JsonObject;
  },
  (calls, body) => calls.write(own.changeRules, { body }),
);

export const signInPageWays = once(
  'the sign-in page',
  async (calls) => pick(await calls.read(operations.identity.page), ['name', 'colour']),
  (calls, body) => calls.write(operations.identity.changePage, { body }),
);

const SHOWN = ['name', 'hasSecret', 'redirectAddress', 'metadataAddress'];
const WAY = operations.signInWays;
export const wayWays: KindWays = byName('the way to sign in', {
  read: async (calls) => {
    const { items } = await calls.read(WAY.list);
    return Object.fromEntries(
      items.map((way: SignInWayDocument) => [
        way.name,
        pick(
          way,
          Object.keys(way).filter((name) => !SHOWN.includes(name)),
        ),
      ]),
    );
  },
  normal: ({ secret: _, ...way }) => way,
  put: async (calls, way, { secret, ...part }) => {
    const value = typeof secret === 'string' ? { secret: await calls.secret(secret) } : {};
    await calls.write(WAY.put, { params: { way }, body: { ...part, ...value } });
  },
  remove: (calls, way) => calls.write(WAY.remove, { params: { way } }),
});

async function readMails(calls: SetupCalls): Promise<NamedParts> {
  const { items } = await calls.read(own.mails);
  return Object.fromEntries(items.flatMap(({ mail, own: texts }) => (Object.keys(texts).length > 0 ? [[mail, texts as JsonObject]] : [])));
}

export const mailWays = byName('the mail', {
  read: readMails,
  put: async (calls, mail, texts, before) => {
    for (const [locale, body] of Object.entries(texts)) await calls.write(own.writeMail, { params: { mail, locale }, body });
    for (const locale of Object.keys(before ?? {}))
      if (!Object.hasOwn(texts, locale)) await calls.write(own.resetMail, { params: { mail, locale } });
  },
  remove: async (calls, mail) => {
    const texts = (await readMails(calls))[mail] ?? {};
    for (const locale of Object.keys(texts)) await calls.write(own.resetMail, { params: { mail, locale } });
  },
});
