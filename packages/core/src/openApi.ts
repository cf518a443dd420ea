/** What an OpenAPI 3 document (OAS 3.1 section 4.8.8) says of the operations of a system. */
import { isPlainObject, type JsonObject } from './json.js';

export type DescribedOperation = { id: string | null; method: string; path: string; summary: string | null };
const METHODS = ['get', 'post', 'put', 'patch', 'delete'] as const;
const MOST = 2_000;

/** Why it is no such document; null if it is one. */
export function openApiProblem(document: JsonObject): string | null {
  if (typeof document.openapi !== 'string' || !document.openapi.startsWith('3.'))
    return 'It has no member `openapi` that begins with 3: it is no OpenAPI 3 document';
  return isPlainObject(document.paths) ? null : 'It has no `paths`';
}

export function operationsIn(document: JsonObject): DescribedOperation[] {
  const text = (value: unknown) => (typeof value === 'string' ? value.slice(0, 300) : null);
  const found: DescribedOperation[] = [];
  for (const [path, item] of Object.entries((document.paths ?? {}) as JsonObject)) {
    if (!isPlainObject(item)) continue;
    for (const method of METHODS) {
      const operation = (item as JsonObject)[method];
      if (!isPlainObject(operation) || found.length >= MOST) continue;
      const { operationId, summary, description } = operation as JsonObject;
      found.push({ id: text(operationId), method: method.toUpperCase(), path, summary: text(summary) ?? text(description) });
    }
  }
  return found;
}

/** Matches addresses below a system's own against a path with names in braces. @returns what the names stand for, or null */
export function matchPath(template: string, path: string): Record<string, string> | null {
  const wanted = template.split('/');
  const given = path.split('/');
  if (wanted.length !== given.length) return null;
  const names: Record<string, string> = {};
  for (const [i, part] of wanted.entries()) {
    const name = /^\{(.+)\}$/.exec(part)?.[1];
    if (name === undefined ? part !== given[i] : given[i] === '') return null;
    if (name !== undefined) names[name] = given[i] as string;
  }
  return names;
}

/** In a type of template literals: any text. */
const ANY_TEXT = `$${'{string}'}`;

/** Paths as a type of TypeScript, in which a name in braces stands for any text. */
export function pathTypes(paths: readonly string[]): string {
  const types = [...new Set(paths)].map((path) => `\`${path.replace(/[`\\$]/g, '\\$&').replace(/\{[^}]*\}/g, () => ANY_TEXT)}\``);
  return types.length > 0 ? types.join(' | ') : 'string';
}
