/** An integer field that became one of numbers by a write: a change of the schema that nobody asked for in so many words. */
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';

/** Tells whoever wrote, and once the team. @param told takes the words for the answer */
export async function tellWidened(
  { notices }: Pick<Parts, 'notices'>,
  { id, app, name }: Environment,
  collection: string,
  field: string,
  told: (notice: string) => void,
): Promise<void> {
  const what = `Field \`${field}\` in \`${collection}\` holds numbers now, no longer integers only.`;
  told(what);
  await notices.tell({
    environmentId: id,
    once: `widened ${id} ${collection} ${field}`,
    title: `\`${field}\` in \`${collection}\` holds numbers now`,
    body: `A write to ${app}/${name} brought a number with a fraction to a field of integers. If that was a mistake, set the type back under Data, ${collection}, Fields; to refuse such writes, switch widening off under Setup, Environments.`,
    link: `/${app}/${name}/data/${collection}?tab=fields`,
  });
}
