/** How an index names what lies inside an object: `meta.service` for texts, `meta.seats:number`, `meta.open:boolean`. */
import { FILTER_LIMITS, OBJECT_STEP } from './filter/index.js';

/** What can be indexed inside an object. */
export type ObjectPath = { field: string; keys: readonly string[]; kind: 'text' | 'number' | 'boolean' };

/** @returns null for a plain name, and for what is no path */
export function readObjectPath(name: string): ObjectPath | null {
  const [path = '', kind = 'text', ...more] = name.split(':');
  const [field = '', ...keys] = path.split('.');
  if (more.length > 0 || field === '' || keys.length === 0 || keys.length > FILTER_LIMITS.objectSteps) return null;
  if (!keys.every((key) => OBJECT_STEP.test(key)) || !(kind === 'text' || kind === 'number' || kind === 'boolean')) return null;
  return { field, keys, kind };
}

export const writeObjectPath = ({ field, keys, kind }: ObjectPath): string =>
  `${[field, ...keys].join('.')}${kind === 'text' ? '' : `:${kind}`}`;
