/**
 * A sample of records for another environment: what says something of a person is made up. That is each field marked `personal`; of
 * records that belong to somebody or refer to a user, every text and place; and anywhere what looks like a mail address or a phone number.
 */
import type { Json, JsonObject } from '../json.js';
import type { Field, Fields } from '../schema.js';

const FIRST = [
  'Ada',
  'Birk',
  'Cato',
  'Dagny',
  'Eira',
  'Frode',
  'Gry',
  'Hauk',
  'Idun',
  'Jorun',
  'Kari',
  'Liv',
  'Magne',
  'Nora',
  'Oda',
  'Peder',
];
const LAST = ['Ashdown', 'Birch', 'Cole', 'Dale', 'Elder', 'Fern', 'Glen', 'Heath', 'Iver', 'Juniper', 'Kelp', 'Larch', 'Moss', 'Nettle'];
const WORDS = 'ridge hut stove path snow river bridge north cairn fog gate lamp map boots rope sledge kettle porch trail stone'.split(' ');
/** Reserved for examples (RFC 2606 section 3). */
const HOST = 'people.example';
const LOOKS_LIKE_MAIL = /^\S+@\S+\.\S+$/;
const LOOKS_LIKE_PHONE = /^\+?[\d ()/-]{7,20}$/;
/** How far a place is moved, in degrees: some ten kilometres. */
const AWAY = 0.1;

/** From 0 up to 1. */
type Random = () => number;
const pick = <T>(random: Random, from: readonly T[]): T => from[Math.floor(random() * from.length)] as T;

/** Somebody who does not exist. @param number tells them apart */
export function madeUpPerson(random: Random, number: number): { name: string; email: string } {
  const [first, last] = [pick(random, FIRST), pick(random, LAST)];
  return { name: `${first} ${last}`, email: `${first}.${last}.${number}@${HOST}`.toLowerCase() };
}

/**
 * A record of a sample.
 * @param record as a member reads it, with its system members
 * @param users stand-ins by the id of a user, who are there where the sample goes
 */
export function sampled(record: JsonObject, fields: Fields, users: (id: string) => string | null, random: Random): JsonObject {
  const isOfSomebody = record.ownerId !== null || [...fields].some(([name, { to }]) => to === 'users' && record[name] !== null);
  const values: JsonObject = {};
  for (const [name, field] of fields) {
    const value = record[name];
    if (value === undefined || value === null) continue;
    const made = replaced(field, value, isOfSomebody, users, random);
    if (made !== null) values[name] = made;
  }
  return values;
}

function replaced(field: Field, value: Json, isOfSomebody: boolean, users: (id: string) => string | null, random: Random): Json {
  if (field.type === 'reference') return field.to === 'users' ? users(String(value)) : value;
  // Contents stay where they are.
  if (field.type === 'file') return null;
  if (!isPersonal(field, value, isOfSomebody)) return value;
  switch (field.type) {
    case 'text':
      return madeUpText(field, String(value), random);
    case 'place': {
      const [longitude, latitude] = (value as { coordinates: [number, number] }).coordinates;
      const moved = (at: number, most: number) => Math.max(-most, Math.min(most, at + (random() - 0.5) * 2 * AWAY));
      return { type: 'Point', coordinates: [moved(longitude, 180), moved(latitude, 90)] };
    }
    case 'integer':
    case 'number':
      return typeof field.min === 'number' ? field.min : 0;
    case 'choice':
      return pick(random, field.choices ?? [String(value)]);
    default:
      return null;
  }
}

function isPersonal({ type, personal }: Field, value: Json, isOfSomebody: boolean): boolean {
  if (personal) return true;
  if (isOfSomebody && ['text', 'place', 'object', 'list'].includes(type)) return true;
  return typeof value === 'string' && type === 'text' && (LOOKS_LIKE_MAIL.test(value) || LOOKS_LIKE_PHONE.test(value));
}

/** As long as what it stands for, or shorter, and within the field's limits; of a pattern nothing is known, so it is left out. */
function madeUpText({ maxLength = 500, minLength = 0, pattern }: Field, text: string, random: Random): string | null {
  if (pattern) return null;
  const address = madeUpAddress(text, random);
  if (address && address.length >= minLength && address.length <= maxLength) return address;
  const words: string[] = [];
  do words.push(pick(random, WORDS));
  while (words.join(' ').length < Math.min(text.length, 60));
  const made = words.join(' ').slice(0, Math.min(maxLength, 500));
  return made.padEnd(minLength, 'a');
}

/** For a mail address or a phone number, one that nobody has. */
function madeUpAddress(text: string, random: Random): string | null {
  if (LOOKS_LIKE_MAIL.test(text)) return madeUpPerson(random, Math.floor(random() * 1e6)).email;
  // Numbers of the North American plan that are reserved for fiction: 555-0100 to 555-0199.
  if (LOOKS_LIKE_PHONE.test(text)) return `+1202555${String(100 + Math.floor(random() * 100)).padStart(4, '0')}`;
  return null;
}
