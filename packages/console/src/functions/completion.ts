/** What the editor offers while somebody types: the team's own names, and what a function can reach. */
import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete';

export type KnownNames = { collections: { name: string; fields: string[] }[]; upstreams: string[]; secrets: string[] };

const named = (names: readonly string[], type: string, detail: string): Completion[] => names.map((label) => ({ label, type, detail }));
const METHODS = named(['read', 'list', 'summary', 'create', 'put', 'change', 'remove'], 'method', 'of records');
const REACH = named(
  ['records', 'together', 'rely', 'users', 'files', 'notify', 'channels', 'upstreams', 'providerToken', 'secret', 'fetch', 'log', 'refuse'],
  'function',
  'can be reached',
);
const TYPES = named(
  ['Endpoint', 'BeforeWrite', 'AfterWrite', 'BeforeRead', 'Reshape', 'BeforeAction', 'AfterAction', 'Schedule'],
  'type',
  'of a handler',
);

/** @param known asked for when it is needed, since it arrives later than the code */
export const completionsOf =
  (known: () => KnownNames) =>
  (context: CompletionContext): CompletionResult | null => {
    const { collections, upstreams, secrets } = known();
    const quoted = (call: RegExp, names: readonly string[], detail: string): CompletionResult | null => {
      const found = context.matchBefore(call);
      const word = found && context.matchBefore(/[\w-]*/);
      return found && word ? { from: word.from, options: named(names, 'constant', detail), validFor: /^[\w-]*$/ } : null;
    };
    const inQuotes =
      quoted(
        /(records\(|collection: ?|Write<|Reshape<)\s*['"`][\w-]*/,
        collections.map(({ name }) => name),
        'collection',
      ) ??
      quoted(/upstreams\(\s*['"`][\w-]*/, upstreams, 'upstream') ??
      quoted(/secret\(\s*['"`][\w-]*/, secrets, 'secret');
    if (inQuotes) return inQuotes;
    const member = context.matchBefore(/\??!?\.\w*/);
    if (member) {
      const word = context.matchBefore(/\w*/);
      const fields = collections.flatMap(({ name, fields: of }) => named(of, 'property', `of ${name}`));
      return { from: word?.from ?? context.pos, options: [...METHODS, ...fields], validFor: /^\w*$/ };
    }
    const word = context.matchBefore(/\w+/);
    return word || context.explicit ? { from: word?.from ?? context.pos, options: [...REACH, ...TYPES], validFor: /^\w*$/ } : null;
  };
