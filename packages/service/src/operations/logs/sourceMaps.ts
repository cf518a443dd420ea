/** Stacks of generated code, led back to the team's own by source maps (ECMA-426). */
import type { JsonObject } from '@orchard/core';
import { originalPositionFor, TraceMap } from '@jridgewell/trace-mapping';
import { Problem } from '@orchard/contract';
import { LRUCache } from 'lru-cache';
import type { Environment } from '../../platform/call.js';
import { readSourceMap, writeSourceMap } from './sourceMapStore.js';

/** A file, its line and its column in a line of a stack. */
const PLACE = /([^\s()@]+?):(\d+):(\d+)/;
const fileOf = (path: string): string =>
  path
    .replace(/[?#].*$/, '')
    .split('/')
    .at(-1) ?? path;

export class SourceMaps {
  /** Parsed maps; null where there is none. */
  readonly #parsed = new LRUCache<string, { map: TraceMap | null }>({ max: 30, ttl: 60_000 });

  async put(environment: Environment, { version, file, map }: { version: string; file: string; map: JsonObject }, at: Date) {
    const parsed = parse(map);
    const row = { version, file: fileOf(file), map: JSON.stringify(map), sources: parsed.sources.length, at };
    await writeSourceMap(environment, row);
    this.#parsed.delete(keyOf(environment, version, row.file));
    return { version, file: row.file, sources: row.sources, at: at.toISOString() };
  }

  /** The stack with each line led back where a map of its version knows it. */
  async readable(environment: Environment, stack: string, version: string | null): Promise<string> {
    if (version === null) return stack;
    const lines: string[] = [];
    for (const line of stack.split('\n')) lines.push(await this.#readableLine(environment, line, version));
    return lines.join('\n');
  }

  async #readableLine(environment: Environment, line: string, version: string): Promise<string> {
    const [place, path = '', number, column] = PLACE.exec(line) ?? [];
    if (!place) return line;
    const map = await this.#mapOf(environment, version, fileOf(path));
    // ECMA-426 counts columns from 0, stacks count them from 1.
    const found = map && originalPositionFor(map, { line: Number(number), column: Number(column) - 1 });
    if (!found?.source) return line;
    const name = found.name ? `${found.name} ` : '';
    return `    at ${name}(${found.source}:${found.line}:${(found.column ?? 0) + 1})`;
  }

  async #mapOf(environment: Environment, version: string, file: string): Promise<TraceMap | null> {
    const key = keyOf(environment, version, file);
    const known = this.#parsed.get(key);
    if (known) return known.map;
    const text = await readSourceMap(environment, version, file);
    const map = text === null ? null : new TraceMap(text);
    this.#parsed.set(key, { map });
    return map;
  }
}

const keyOf = ({ id }: Pick<Environment, 'id'>, version: string, file: string): string => `${id} ${version} ${file}`;

/** @throws {Problem} invalid-input */
function parse(map: JsonObject): TraceMap {
  try {
    if (map.version !== 3) throw new Error(`its version is ${JSON.stringify(map.version ?? null)}`);
    return new TraceMap(map as never);
  } catch (error) {
    const problem = `It is no source map: ${(error as Error).message}.`;
    throw new Problem('invalid-input', problem, { fields: [{ path: 'body.map', problem, expected: 'a source map, version 3' }] });
  }
}
