/** How a kind of part is read from an environment and put into it: through the calls that members make by hand. */
import { type Json, type JsonObject, sameJson, type SetupChange, type SetupEffect } from '@orchard/core';
import type { SetupCalls } from '../calls.js';

export type NamedParts = { [name: string]: JsonObject };

/** When a step is done: everything is there before anything refers to it, and what cannot be undone comes last. */
export type Phase = 'make' | 'fill' | 'drop';
export type Step = {
  phase: Phase;
  text: string;
  run: (calls: SetupCalls) => Promise<unknown>;
  /** The kind of part: steps of one kind may be done at the same time, since later kinds may refer to it. */
  beside?: string;
};

/** What is known about a change before it is applied. */
export type Judgement = { effects: SetupEffect[]; blocked?: string | null; hints?: string[] };

export type KindWays = {
  /** Parts as in a setup file. */
  read: (calls: SetupCalls) => Promise<NamedParts>;
  /** A part as it is compared: without what cannot be read back, and in one form. */
  normal?: (part: JsonObject, name: string) => JsonObject;
  /** @param wanted parts of this kind as the file has them, with what cannot be read back @param all the whole wanted setup */
  steps: (changes: SetupChange[], wanted: NamedParts, now: { [kind: string]: NamedParts }) => Step[];
  /** @param change of a part that is there @throws {Problem} */
  judge?: (change: SetupChange, calls: SetupCalls) => Promise<Judgement>;
};

const VERBS = { make: 'Add', change: 'Change', drop: 'Remove' } as const;

/** Ways of a kind whose parts are each one call. */
export function byName(
  what: string,
  ways: {
    read: KindWays['read'];
    put: (calls: SetupCalls, name: string, part: JsonObject, before: JsonObject | null) => Promise<unknown>;
    remove: (calls: SetupCalls, name: string) => Promise<unknown>;
    normal?: KindWays['normal'];
    judge?: KindWays['judge'];
  },
): KindWays {
  const { put, remove, ...rest } = ways;
  return {
    ...rest,
    steps: (changes, wanted) =>
      changes.map(({ name, action, before }) => ({
        phase: action === 'drop' ? ('drop' as const) : ('fill' as const),
        beside: what,
        text: `${VERBS[action]} ${what} ${name}`,
        run: (calls) => (action === 'drop' ? remove(calls, name) : put(calls, name, wanted[name] as JsonObject, before)),
      })),
  };
}

/** Ways of what an environment has once: one call changes it. */
export const once = (
  what: string,
  read: (calls: SetupCalls) => Promise<JsonObject>,
  change: (calls: SetupCalls, part: JsonObject) => Promise<unknown>,
): KindWays => ({
  read: async (calls) => ({ '': await read(calls) }),
  steps: (changes) =>
    changes.map(({ after }) => ({ phase: 'fill' as const, text: `Change ${what}`, run: (calls) => change(calls, after as JsonObject) })),
});

/** Ways of a kind that is one list, replaced as a whole. */
export const asList = (
  what: string,
  read: KindWays['read'],
  replace: (calls: SetupCalls, all: NamedParts) => Promise<unknown>,
): KindWays => ({
  read,
  steps: (changes, wanted) =>
    changes.length > 0
      ? [{ phase: 'fill' as const, text: `Replace ${what}: ${changes.length} differ`, run: (calls) => replace(calls, wanted) }]
      : [],
});

/** Only some members of a document; those that are undefined are left out. */
export const pick = (document: object, names: readonly string[]): JsonObject =>
  Object.fromEntries(
    names.flatMap((name) => {
      const value = (document as JsonObject)[name];
      return value === undefined ? [] : [[name, value]];
    }),
  );

/** Parts by the name that each has, without that member. */
export const named = (items: readonly object[], names: readonly string[]): NamedParts =>
  Object.fromEntries(items.map((item) => [(item as { name: string }).name, pick(item, names)]));

/** Without members that say what goes without saying. */
export const without = (document: JsonObject, plain: { [member: string]: Json }): JsonObject =>
  Object.fromEntries(
    Object.entries(document).filter(
      ([member, value]) => value !== undefined && !(Object.hasOwn(plain, member) && sameJson(value, plain[member] as Json)),
    ),
  );

/** Data goes with the part, or nothing does. */
export const losing = (text: string, records: number): Judgement => ({
  effects: records > 0 ? [{ text, loses: true, lockMs: 0, records }] : [],
});
