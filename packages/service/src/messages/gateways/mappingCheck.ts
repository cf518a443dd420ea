/** Checks of a mapping and of settings before they are stored. */
import { newGateway, Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { CompiledMapping, type GatewayMapping, MappingError, trySample } from '@orchard/core/messages';

/**
 * Refuses a mapping for another kind, with errors, or with a failing sample.
 * @throws {Problem} mapping-refused
 */
export function demandMapping(mapping: GatewayMapping, kind: string): void {
  const refuse = (problems: { at: string; problem: string }[]) =>
    new Problem(
      'mapping-refused',
      `The gateway mapping is not valid at ${problems.map(({ at }) => at).join(', ')}. ${problems[0]?.problem}`,
      {
        fields: problems.map(({ at, problem }) => ({ path: `body.mapping${at}`, problem, expected: 'see docs/gateways.md' })),
      },
    );
  if (mapping.for !== kind)
    throw refuse([{ at: '/for', problem: `The mapping is for gateways of the kind ${mapping.for}; this one is of the kind ${kind}.` }]);
  let compiled: CompiledMapping;
  try {
    compiled = new CompiledMapping(mapping);
  } catch (error) {
    if (error instanceof MappingError) throw refuse(error.problems);
    throw error;
  }
  const problems = trySample(compiled);
  if (problems.length) throw refuse(problems);
}

/**
 * Merged settings must fit their kind, as new ones do.
 * @throws {Problem} invalid-input
 */
export function checkedSettings(kind: string, settings: JsonObject): JsonObject {
  const option = newGateway.options.find(({ shape }) => shape.kind.value === kind);
  const result = option?.shape.settings.safeParse(settings);
  if (result?.success) return result.data as JsonObject;
  throw new Problem('invalid-input', 'The changed settings do not fit the gateway.', {
    fields: (result?.error.issues ?? []).map((issue) => ({
      path: `body.settings.${issue.path.join('.')}`,
      problem: issue.message,
      expected: issue.message,
    })),
  });
}
