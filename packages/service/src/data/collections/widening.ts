/** An integer field that a write turned into a number field: a schema change that no one requested explicitly. */
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';

/**
 * Notifies the caller, and the team once.
 * @param told receives the text for the response
 */
export async function tellWidened(
  { notices }: Pick<Parts, 'notices'>,
  { id, app, name }: Environment,
  collection: string,
  field: string,
  told: (notice: string) => void,
): Promise<void> {
  const what = `Field \`${field}\` in \`${collection}\` is a number field now; it held integers before.`;
  told(what);
  await notices.tell({
    kind: 'schema',
    environmentId: id,
    once: `widened ${id} ${collection} ${field}`,
    title: `\`${field}\` in \`${collection}\` is a number field now`,
    body: `A write to ${app}/${name} wrote a number with a fraction to an integer field. If that was a mistake, change the type back under Data, ${collection}, Fields; to refuse such writes, switch widening off under Setup, Environments.`,
    link: `/${app}/${name}/data/${collection}?tab=fields`,
  });
}
