/** Which index would serve a list: from the fields that its filter compares and its sort asks for. */
import type { Condition, Term } from './filter/index.js';
import { writeObjectPath } from './objectPath.js';

/** What lists of one form have in common, whatever values they compare with. */
export type ListForm = {
  /** Compared with one value, or one of several. */
  equal: string[];
  /** Compared with bounds. */
  range: string[];
  /** Places that are near something, or inside an area. */
  places: string[];
  /** Sort terms, `-` before descending ones; the id at the end is left out. */
  sort: string[];
};
export type IndexProposal = { fields: string[]; kind: 'order' | 'place' };
type Known = { fields: string[]; kind: 'order' | 'unique' | 'place' | 'search' | 'items' };

/** The form of a list. Only conditions that every record has to meet can be served by an index. */
export function formOf(condition: Condition | null, sort: readonly string[]): ListForm {
  const form: ListForm = { equal: [], range: [], places: [], sort: sort.filter((term) => term !== 'id' && !term.includes('(')) };
  if (condition) collect(condition, form);
  for (const list of [form.equal, form.range, form.places]) list.sort();
  return form;
}

function collect(condition: Condition, form: ListForm): void {
  switch (condition.is) {
    case 'all':
      for (const part of condition.parts) collect(part, form);
      return;
    case 'compare': {
      const term = [condition.left, condition.right].find((one) => one.is === 'field' || one.is === 'inside');
      const near = [condition.left, condition.right].find((one) => one.is === 'distance');
      if (near?.is === 'distance') return addPlace(near.from.is === 'field' ? near.from : near.to, form);
      if (condition.operator !== '<>') add(term, condition.operator === '=' ? form.equal : form.range);
      return;
    }
    case 'oneOf':
      return add(condition.of, form.equal);
    case 'null':
      return add(condition.of, form.equal);
    case 'insideBox':
    case 'insidePolygon':
      return addPlace(condition.of, form);
  }
}

function add(term: Term | undefined, list: string[]): void {
  const [name] = term?.is === 'field' && term.path.length === 1 ? term.path : term?.is === 'inside' ? [objectPathName(term)] : [];
  if (name && !list.includes(name)) list.push(name);
}

const addPlace = (term: Term, form: ListForm): void => add(term, form.places);

/**
 * How an index names what lies inside an object: `meta.service` for texts, `meta.seats:number` and `meta.open:boolean`.
 * Empty where an index over it would not serve.
 */
function objectPathName({ path, keys, kind }: Extract<Term, { is: 'inside' }>): string {
  if (path.length > 1 || !(kind === 'text' || kind === 'number' || kind === 'boolean')) return '';
  return writeObjectPath({ field: path[0] as string, keys, kind });
}

/** Fields that have an index of their own from the start. */
const SERVED = new Set(['id', 'ownerId']);

/**
 * The index to propose, or null if none would help: first the fields compared with one value, then one field that is sorted
 * by or compared with bounds, since an index has only one order.
 */
export function proposeIndex(form: ListForm, indexable: (field: string) => boolean): IndexProposal | null {
  if (form.equal.some((field) => SERVED.has(field))) return null;
  const [place] = form.places;
  if (place && form.equal.length === 0) return { fields: [place], kind: 'place' };
  const fields = form.equal.filter(indexable).slice(0, 3);
  const next = form.sort[0]?.replace(/^-/, '') ?? form.range[0];
  if (next && next !== 'id' && !fields.includes(next) && indexable(next)) fields.push(next);
  return fields.length > 0 ? { fields, kind: 'order' } : null;
}

/** The index that already serves what a proposal is for: its first fields are the same, in any order among equals. */
export function servingIndex(proposal: IndexProposal, indexes: readonly (Known & { name: string })[]): string | null {
  const serves = indexes.find(({ fields, kind }) => {
    if (kind === 'search' || kind === 'items' || (kind === 'place') !== (proposal.kind === 'place')) return false;
    const first = fields.slice(0, proposal.fields.length);
    return proposal.fields.every((field) => first.includes(field));
  });
  return serves?.name ?? null;
}
