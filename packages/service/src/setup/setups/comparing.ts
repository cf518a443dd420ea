/** What applying a setup would do: its changes, what each does to data and to those in use, and the steps in order. */
import { operations, Problem, type SetupKind, setupKinds, type Use } from '@orchard/contract';
import {
  compareSetups,
  type JsonObject,
  type JudgedChange,
  nearest,
  partName,
  SetupConflict,
  type SetupChange,
  type SetupDifference,
  type SetupParts,
  type SetupUse,
} from '@orchard/core';
import type { SetupCalls } from './calls.js';
import { KIND_WAYS } from './kinds/index.js';
import type { Judgement, Step } from './kinds/kind.js';
import { comparable, digestOf, refused, unlessTakenAway } from './reading.js';

/** @throws {Problem} setup-invalid */
export function changesBetween(now: SetupParts, wanted: SetupParts): SetupChange[] {
  try {
    return compareSetups(comparable(now), comparable(wanted), setupKinds);
  } catch (error) {
    if (error instanceof SetupConflict)
      throw refused([{ path: error.path.join('.'), problem: error.message, expected: 'the former name of a field that is gone' }]);
    throw error;
  }
}

/** The steps of changes: all is made before it is filled in, and what cannot be undone comes last, in the reverse order. */
export function stepsOf(changes: SetupChange[], wanted: SetupParts, now: SetupParts): Step[] {
  const byKind = setupKinds.map((kind) =>
    KIND_WAYS[kind].steps(
      changes.filter((change) => change.kind === kind),
      wanted[kind] ?? {},
      now,
    ),
  );
  const ofPhase = (kinds: Step[][], phase: Step['phase']) => kinds.flat().filter((step) => step.phase === phase);
  return [...ofPhase(byKind, 'make'), ...ofPhase(byKind, 'fill'), ...ofPhase(byKind.toReversed(), 'drop')];
}

const USED_KINDS: { [kind: string]: Use['to']['kind'] } = { collections: 'collection', functions: 'function', upstreams: 'upstream' };

/** Who was seen to use a part that goes, or parts of it. */
function usesOf({ kind, name, action, renames, points }: SetupChange, uses: readonly Use[]): SetupUse[] {
  const isGone = action === 'drop' || Object.keys(renames).length > 0 || points.some((point) => !('after' in point));
  if (!isGone || !USED_KINDS[kind]) return [];
  return uses
    .filter(({ to }) => to.kind === USED_KINDS[kind] && to.name === name)
    .map(({ from, count, lastAt }) => ({
      by: from.version ? `${from.kind} ${from.name} ${from.version}` : `${from.kind} ${from.name}`,
      calls: count,
      lastAt,
    }));
}

/** @throws {Problem} setup-invalid, setup-changed */
export async function compare(calls: SetupCalls, now: SetupParts, wanted: SetupParts): Promise<SetupDifference> {
  const changes = changesBetween(now, wanted);
  const isUsed = changes.some(({ kind, action }) => action !== 'make' && USED_KINDS[kind]);
  const uses = isUsed ? (await calls.read(operations.upstreams.uses)).items : [];
  const judged = await Promise.all(changes.map((change) => judge(change, calls, wanted, uses)));
  return {
    base: digestOf(now),
    changes: judged,
    steps: stepsOf(changes, wanted, now).map(({ text }) => text),
    loses: judged.some(({ effects }) => effects.some(({ loses }) => loses)),
  };
}

async function judge(change: SetupChange, calls: SetupCalls, wanted: SetupParts, uses: readonly Use[]): Promise<JudgedChange> {
  const found = await judgementOf(change, calls);
  const missing = (await missingSecret(change, calls, wanted)) ?? (await missingCollection(change, calls, wanted));
  return {
    ...change,
    effects: found.effects,
    uses: usesOf(change, uses),
    blocked: found.blocked ?? missing,
    hints: found.hints ?? [],
  };
}

async function judgementOf(change: SetupChange, calls: SetupCalls): Promise<Judgement> {
  const { judge } = KIND_WAYS[change.kind as SetupKind];
  return change.action === 'make' || !judge ? { effects: [] } : unlessTakenAway(partName(change), () => judge(change, calls));
}

/** A secret that a new gateway or way needs, and that is not there. */
async function missingSecret({ kind, name, action }: SetupChange, calls: SetupCalls, wanted: SetupParts): Promise<string | null> {
  const part = wanted[kind]?.[name];
  if (action === 'drop' || !part) return null;
  const isNew = action === 'make';
  const secrets =
    kind === 'gateways' && isNew
      ? Object.values((part.credential ?? {}) as Record<string, string>)
      : kind === 'ways' && typeof part.secret === 'string'
        ? [part.secret]
        : kind === 'upstreams'
          ? secretsIn(part.identify)
          : [];
  if (kind === 'gateways' && isNew && secrets.length === 0 && !['smtp', 'http'].includes(String(part.kind)))
    return 'a new gateway needs its credential: name the secret that holds it under `credential`.';
  const known = secrets.length > 0 ? (await calls.read(operations.functions.secrets)).items.map((secret) => secret.name) : [];
  const absent = secrets.find((secret) => !known.includes(secret));
  return absent ? `there is no secret ${absent} in this environment. Set it with \`orchard secret set ${absent}\`.` : null;
}

/** A collection that a part speaks of, and that is not there afterwards. */
async function missingCollection({ kind, after }: SetupChange, calls: SetupCalls, wanted: SetupParts): Promise<string | null> {
  const named = after ? collectionsIn(kind, after) : [];
  const wantedNames = wanted.collections ? Object.keys(wanted.collections) : [];
  if (named.every((name) => wantedNames.includes(name))) return null;
  // What is not in the file is there as it is; with the kind in it, only tables of other servers are.
  const { items } = await calls.read(operations.collections.list);
  const known = [...wantedNames, ...items.filter(({ outside }) => !wanted.collections || outside).map(({ name }) => name)];
  const absent = named.find((name) => !known.includes(name));
  return absent === undefined ? null : `it speaks of the collection \`${absent}\`, which is not there${nearest(absent, known) || '.'}`;
}

function collectionsIn(kind: string, part: JsonObject): string[] {
  if (kind === 'collections')
    return Object.values(part.fields as { [name: string]: JsonObject }).flatMap(({ type, to }) =>
      type === 'reference' && to !== 'users' ? [String(to)] : [],
    );
  const { collection } = kind === 'functions' ? ((part.on ?? {}) as JsonObject) : kind === 'standing' || kind === 'reports' ? part : {};
  return typeof collection === 'string' ? [collection] : [];
}

const secretsIn = (identify: unknown): string[] => {
  const { secret } = (identify ?? {}) as { secret?: unknown };
  return typeof secret === 'string' ? [secret] : [];
};

/** @throws {Problem} setup-invalid, where a change cannot be applied */
export function checkApplicable({ changes }: SetupDifference): void {
  const blocked = changes.filter((change) => change.blocked !== null);
  if (blocked.length > 0)
    throw refused(
      blocked.map((change) => ({ path: partName(change), problem: `Cannot be applied: ${change.blocked}`, expected: 'see the problem' })),
    );
}

export function checkLosses({ changes, loses }: SetupDifference, loseData: boolean): void {
  if (!loses || loseData) return;
  const [first] = changes.flatMap((change) =>
    change.effects.filter((effect) => effect.loses).map((effect) => `${partName(change)}: ${effect.text}`),
  );
  throw new Problem('setup-loses-data', `${first}. Look at the difference; to apply it nevertheless, send \`loseData\`.`);
}
