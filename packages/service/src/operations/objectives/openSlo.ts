/** Objectives as a file: OpenSLO v1 in YAML. */
import { type Objective, objectiveSchema, Problem } from '@orchard/contract';
import { differenceOf, OpenSloError, readOpenSlo, type SloObjective, writeOpenSlo } from '@orchard/core';
import { parseAllDocuments, stringify } from 'yaml';
import { type Call, environmentOf } from '../../platform/call.js';
import { demandSet, replaceObjectives } from './managing.js';

const LONGEST = 500_000;

export async function exportSlo(call: Pick<Call, 'environment' | 'response'>): Promise<'streaming'> {
  const environment = environmentOf(call);
  const { items } = await demandSet(environment);
  const { app, name } = environment;
  const documents = writeOpenSlo({ name: `${app}-${name}`, title: `${app}/${name}` }, items);
  const text = documents.map((document) => stringify(document, { lineWidth: 0, aliasDuplicateObjects: false })).join('---\n');
  // RFC 9512 section 2.1.
  call.response.status(200).setHeader('content-type', 'application/yaml; charset=utf-8');
  call.response.setHeader('content-disposition', `attachment; filename="${app}-${name}-objectives.yaml"`);
  call.response.end(text);
  return 'streaming';
}

type Difference = { name: string; change: 'added' | 'changed' | 'removed'; before: Objective | null; after: Objective | null };
type ImportCall = Pick<Call, 'environment' | 'member' | 'user' | 'holder'> & {
  body: { yaml: string; apply: boolean; why?: string | undefined };
};

/** What the file would change; with `apply` it is stored as a new version. */
export async function importSlo(call: ImportCall, now: number) {
  const environment = environmentOf(call);
  const { yaml, apply, why } = call.body;
  const { objectives, notes } = readFile(yaml);
  const before = await demandSet(environment);
  const differences = differencesOf(before.items, objectives);
  const set =
    apply && differences.length > 0
      ? await replaceObjectives(call, environment, { items: objectives, why, version: before.version }, now, 'body.yaml')
      : before;
  return { applied: set !== before, differences, notes, set };
}

/** @throws {Problem} invalid-input that names the document and what is wrong with it */
function readFile(yaml: string): { objectives: Objective[]; notes: string[] } {
  try {
    const { objectives, notes } = readOpenSlo(parse(yaml));
    return { objectives: objectives.map(demandObjective), notes };
  } catch (error) {
    if (!(error instanceof OpenSloError)) throw error;
    const { path, problem, expected } = error;
    throw new Problem('invalid-input', `The file cannot be read. ${problem} Expected: ${expected}.`, {
      fields: [{ path: `body.yaml.${path}`, problem, expected }],
    });
  }
}

function parse(yaml: string): unknown[] {
  if (yaml.length > LONGEST) throw new OpenSloError('', 'The file is too long.', `at most ${LONGEST} characters`);
  const documents = parseAllDocuments(yaml);
  if (!Array.isArray(documents)) throw new OpenSloError('', 'The file is empty.', 'OpenSLO v1 documents');
  const fault = documents.flatMap(({ errors }) => errors)[0];
  if (fault) throw new OpenSloError('', `It is no YAML: ${fault.message.split('\n')[0]}.`, 'YAML');
  // Aliases could blow a small file up to a large one.
  return documents.map((document) => document.toJS({ maxAliasCount: 100 }));
}

/** The same shape as of objectives in JSON. */
function demandObjective(objective: SloObjective): Objective {
  const { success, data, error } = objectiveSchema.safeParse(objective);
  if (success) return data;
  const [issue] = error.issues;
  throw new OpenSloError(
    `${objective.name}.${issue?.path.join('.')}`,
    `The objective \`${objective.name}\` is not valid: ${issue?.path.join('.')}: ${issue?.message}.`,
    'an objective as `orchard objective list --json` prints it',
  );
}

function differencesOf(before: readonly Objective[], after: readonly Objective[]): Difference[] {
  const added = after.flatMap((one): Difference[] => {
    const was = before.find(({ name }) => name === one.name);
    if (!was) return [{ name: one.name, change: 'added', before: null, after: one }];
    return differenceOf(was, one) === null ? [] : [{ name: one.name, change: 'changed', before: was, after: one }];
  });
  const removed = before
    .filter(({ name }) => !after.some((one) => one.name === name))
    .map((one): Difference => ({ name: one.name, change: 'removed', before: one, after: null }));
  return [...added, ...removed];
}
