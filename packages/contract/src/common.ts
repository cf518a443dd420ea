/** Shapes that several operations share. */
import { ACTOR_KINDS, isPlainObject, isShallow, type JsonObject, NAME_PATTERN, readMailAddress } from '@orchard/core/words';
import { z } from 'zod';
import { HOOK_PROBLEMS, type Operation, type Role } from './operation.js';

/** RFC 3339 in UTC with milliseconds. */
export const time = z.iso.datetime().describe('RFC 3339, UTC, with milliseconds');
/** Only the outermost shape is checked: the output of a JSON parser is JSON. */
export const jsonObject = z.custom<JsonObject>(isPlainObject, 'A JSON object.').meta({ type: 'object', additionalProperties: true });
/** JSON of an app inside a JSON column, which MariaDB reads up to 32 levels. */
export const appData = jsonObject
  .refine((value) => isShallow(value, 25), 'A JSON object, nested at most 25 deep.')
  .meta({ type: 'object', additionalProperties: true });
/** Any valid address, also of other scripts (RFC 6531), in the one form in which it is kept. */
export const email = z
  .string()
  .max(1_000)
  .overwrite((text) => readMailAddress(text) ?? text)
  .refine((text) => readMailAddress(text) === text, 'An e-mail address, such as mira@quillfell.example.')
  .meta({ format: 'idn-email' });
/** NIST SP 800-63B section 5.1.1.2: length is what counts, and no rule of composition. */
export const password = z
  .string()
  .min(8, 'At least 8 characters.')
  .max(256, 'At most 256 characters.')
  .refine((text) => text.trim() !== '', 'Something besides spaces.');
/** A password that is only compared: any that was accepted once must stay usable. */
export const givenPassword = z.string().max(256);
/** The secret of a one-time address. */
export const linkToken = z.string().max(200);
export const slug = z.string().regex(/^[a-z][a-z0-9-]{0,38}$/, 'A lower-case letter, then up to 38 lower-case letters, digits or -.');
export const collectionName = z.string().regex(NAME_PATTERN, 'A lower-case letter, then up to 62 letters, digits or _.');
export const recordId = z
  .string()
  .regex(/^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$/, 'A letter or digit, then up to 63 letters, digits, ., _ or -.');
export const deviceId = z
  .string()
  .regex(/^[A-Za-z0-9][A-Za-z0-9._-]{7,63}$/, 'A letter or digit, then 7 to 63 letters, digits, ., _ or -.');
export const uuid = z.uuid();
/** Of a path about one member. */
export const memberId = z.string().max(64).describe('Id of the member; `orchard` also takes the mail address');
export const none = z.strictObject({});
export const nothing = z.undefined();

/** Who did something. */
export const actor = z
  .object({
    kind: z.enum(ACTOR_KINDS),
    id: z.string().nullable().describe('Of a member or user; the client of an app, `client/key` of a backend; null for the service itself'),
    name: z.string().nullable().describe('As people know it; null for users'),
  })
  .meta({ id: 'Actor' });
export type ActorDocument = z.infer<typeof actor>;
/** An actor as text: its name, or its kind and id. */
export const actorWords = ({ kind, id, name }: ActorDocument): string => name ?? [kind, id].filter(Boolean).join(' ');

export const listQuery = z.strictObject({
  filter: z.string().max(4000).optional().describe('A condition in CQL2 text'),
  sort: z.string().max(400).optional().describe('Field names, comma-separated, `-` before one for descending'),
  limit: z.coerce.number().int().min(1).max(1000).default(50),
  cursor: z.string().max(4000).optional().describe('`next` of the previous page'),
});

/** A page of items; `next` is absent on the last one. */
export const page = <T extends z.ZodType>(item: T) => z.object({ items: z.array(item), next: z.string().optional() });

export const environmentParams = z.object({ app: slug, environment: slug });
export const ENVIRONMENT = '/manage/v1/apps/{app}/environments/{environment}';

/** The parameters of an app's call plus those that name the environment, for members. */
type Placed<P extends z.ZodObject> = z.ZodObject<(typeof environmentParams)['shape'] & P['shape']>;

/**
 * The same call for members: in the environment that the path names, under the same name. Only differences are declared
 * here; the rest is the app's declaration.
 */
export function forMembers<P extends z.ZodObject, Q extends z.ZodObject, B extends z.ZodType, R extends z.ZodType>(
  app: Operation<P, Q, B, R>,
  role: Role,
  summary = app.summary,
): Operation<Placed<P>, Q, B, R> {
  return {
    ...app,
    id: `${app.id}Managed`,
    path: app.path.replace('/app/v1', ENVIRONMENT),
    params: environmentParams.extend(app.params.shape) as unknown as Placed<P>,
    caller: { kind: 'member', role },
    summary,
  };
}

type Optional = 'params' | 'query' | 'problems' | 'status';
type Declared<P extends z.ZodObject, Q extends z.ZodObject, B extends z.ZodType, R extends z.ZodType> = Omit<
  Operation<P, Q, B, R>,
  Optional
> &
  Partial<Pick<Operation<P, Q, B, R>, Optional>>;

/** Declares an operation. Defaults: no parameters, no query, status 200. */
export function operation<
  R extends z.ZodType,
  P extends z.ZodObject = typeof none,
  Q extends z.ZodObject = typeof none,
  B extends z.ZodType = typeof nothing,
>(declared: Declared<P, Q, B, R>): Operation<P, Q, B, R> {
  const { problems = [], hooked } = declared as Partial<Operation>;
  const all = hooked ? [...problems, ...HOOK_PROBLEMS] : problems;
  return { params: none as never, query: none as never, status: 200, ...declared, problems: all } as Operation<P, Q, B, R>;
}

export const timeZone = z
  .string()
  .max(64)
  .refine((name) => {
    try {
      return Boolean(new Intl.DateTimeFormat('en', { timeZone: name }));
    } catch {
      return false;
    }
  }, 'A name of the time zone database, such as Europe/Oslo.');
