/** Members by their mail address: people know it, while calls take the id, so that no address stands in a path. */
import { type HttpClient, operations } from '@orchard/contract';
import { CommandError } from './commandError.js';

/** The same path parameters with the id of the member, where `member` is a mail address. One call where it is. */
export async function withMemberId(client: HttpClient, params: Record<string, string>): Promise<Record<string, string>> {
  const wanted = params.member?.toLowerCase();
  if (!wanted?.includes('@')) return params;
  const { items } = await client.call(operations.members.list, {});
  const found = items.find(({ email }) => email?.toLowerCase() === wanted);
  if (!found)
    throw new CommandError(`There is no member ${wanted}, or you may not see the address. \`orchard member list\` lists them.`, 5);
  return { ...params, member: found.id };
}
