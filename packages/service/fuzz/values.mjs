// Values for calls: ones that fit a JSON Schema, and ones that are meant to break what reads them.

/** A generator of numbers from 0 up to 1, the same for the same seed (mulberry32). */
export function seeded(seed) {
  let state = seed >>> 0;
  return () => {
    state = (state + 0x6d2b79f5) | 0;
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state);
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed;
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296;
  };
}

/** Names that an object's prototype has, or that are awkward in some other way. */
export const AWKWARD_NAMES = [
  'constructor',
  'toString',
  '__proto__',
  'hasOwnProperty',
  'valueOf',
  'isPrototypeOf',
  'id',
  'version',
  '',
  'a.b',
  '`',
  '😀',
];
const AWKWARD_TEXTS = [
  '',
  ' ',
  '\0',
  '\ud800',
  'x\udc00y',
  '%',
  '{',
  '{user.name}',
  "' OR 1=1 --",
  '../..',
  '\u202e',
  '😀'.repeat(50),
  'null',
  '[object Object]',
];
const FILTERS = [
  "name = 'a'",
  'nights > 2',
  "constructor = 'x'",
  '{"op":"constructor","args":[]}',
  "name LIKE '%a%'",
  'NOT',
  "hut.name = 'a'",
  'toString()',
  "T_AFTER(createdAt, TIMESTAMP('2026-01-01T00:00:00Z'))",
  '('.repeat(200),
  '[['.repeat(300),
];
/** Texts for what a schema asks of them. */
const FITTING = [
  'a',
  'huts',
  'fuzz',
  'dev',
  'abcdefgh',
  'a1b2c3d4-0000-7000-8000-000000000000',
  '2026-07-14T06:00:00.000Z',
  '2026-07-14',
  'runa@hikers.example',
  'https://push.example/x',
  '+12025550142',
  'en',
  'UTC',
  'AA',
  'ridge-and-river',
  '123456',
  'BEl62iUYgUivxIkv69yViEuiBIa-Ib9-SkvMeAtA3LFgDzkrxZJjSgSnfckjBJuBkr3qBUYIHBQFLXYp5Nksh8U',
];

export class Values {
  constructor(random) {
    this.random = random;
  }

  chance(part) {
    return this.random() < part;
  }
  below(limit) {
    return Math.floor(this.random() * limit);
  }
  of(list) {
    return list[this.below(list.length)];
  }

  /** A value for a JSON Schema; now and then one that does not fit it. */
  forSchema(schema, defs = schema?.$defs ?? {}, depth = 0) {
    if (this.chance(0.03)) return this.awkward();
    if (!schema || depth > 8) return this.of([null, 1, 'a']);
    if (schema.$ref) return this.forSchema(defs[schema.$ref.split('/').at(-1)], defs, depth + 1);
    if ('const' in schema) return schema.const;
    if (schema.enum) return this.of(schema.enum);
    const alternatives = schema.anyOf ?? schema.oneOf;
    if (alternatives) return this.forSchema(this.of(alternatives), defs, depth + 1);
    switch (Array.isArray(schema.type) ? this.of(schema.type) : schema.type) {
      case 'object':
        return this.#object(schema, defs, depth);
      case 'array':
        return Array.from({ length: Math.max(schema.minItems ?? 0, this.below(3)) }, () => this.forSchema(schema.items, defs, depth + 1));
      case 'integer':
      case 'number':
        return this.of([schema.minimum ?? 0, schema.maximum ?? 10, 1, 3, 0.5, -1]);
      case 'boolean':
        return this.chance(0.5);
      case 'string':
        return this.#text(schema);
      default:
        return this.of([null, 1, 'a', { a: 1 }]);
    }
  }

  #object(schema, defs, depth) {
    const made = {};
    for (const [name, of] of Object.entries(schema.properties ?? {}))
      if (schema.required?.includes(name) || this.chance(0.3)) made[name] = this.forSchema(of, defs, depth + 1);
    if (!schema.properties) Object.assign(made, this.record());
    if (this.chance(0.05)) define(made, this.of(AWKWARD_NAMES), this.awkward());
    return made;
  }

  #text(schema) {
    if (/CQL2|condition/i.test(schema.description ?? '') || this.chance(0.02)) return this.of(FILTERS);
    if (this.chance(0.05)) return this.of(AWKWARD_TEXTS);
    const fits = FITTING.filter(
      (text) =>
        (!schema.pattern || new RegExp(schema.pattern, 'u').test(text)) &&
        text.length >= (schema.minLength ?? 0) &&
        text.length <= (schema.maxLength ?? 1e9),
    );
    return fits.length > 0 ? this.of(fits) : 'a';
  }

  /** Fields of a record. */
  record() {
    const made = {};
    for (let i = this.below(4); i >= 0; i--)
      define(
        made,
        this.of(['name', 'nights', 'hut', 'position', 'amenities', 'open', ...AWKWARD_NAMES]),
        this.chance(0.5) ? this.awkward() : this.of(['a', 1, 2.5, true, null, 'fellgate']),
      );
    return made;
  }

  /** Something that reading code trips over; rarely a large one, of up to a megabyte. */
  awkward() {
    const large = this.chance(0.02);
    switch (this.below(9)) {
      case 0:
        return this.of(AWKWARD_TEXTS);
      case 1:
        return large ? 'x'.repeat(900_000) : 'x'.repeat(this.below(5_000));
      case 2:
        return nested(large ? 10_000 : this.below(120), this.chance(0.5));
      case 3:
        return this.of([1e308, -0, 9007199254740992, 1e-320, -1]);
      case 4:
        return Object.fromEntries(Array.from({ length: large ? 16_000 : this.below(300) }, (_, i) => [`field${i}`, i]));
      case 5:
        return { type: 'Point', coordinates: this.of([[8.3, 61.3], [200, 0], nested(50, false), 'x', [null, null]]) };
      case 6:
        return Array.from({ length: large ? 100_000 : this.below(50) }, (_, i) => i);
      case 7: {
        const made = {};
        for (const name of AWKWARD_NAMES) define(made, name, this.of(AWKWARD_TEXTS));
        return made;
      }
      default:
        return this.of([null, true, {}, [], [[]], { a: { '\ud800': 1 } }]);
    }
  }
}

const define = (object, name, value) =>
  Object.defineProperty(object, name, { value, enumerable: true, writable: true, configurable: true });

/** Lists or objects in each other, made without recursion. */
function nested(depth, lists) {
  let value = 1;
  for (let i = 0; i < depth; i++) value = lists ? [value] : { a: value };
  return value;
}

/** JSON.stringify without recursion's end: very deep values are written by hand. */
export function toJson(value) {
  try {
    return JSON.stringify(value);
  } catch {
    return `${'['.repeat(10_000)}1${']'.repeat(10_000)}`;
  }
}
