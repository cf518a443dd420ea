/** Members and users by their mail address: people know it, while calls take the id, so that no address stands in a path. */
import { type HttpClient, mailAddress, operations } from '@orchard/contract';
import { CommandError } from './commandError.js';

type Params = Record<string, string>;

/** The same path parameters with ids where `member` or `user` is a mail address. One call where it is. */
export async function withIds(client: HttpClient, params: Params): Promise<Params> {
  if (params.member?.includes('@')) return { ...params, member: await memberId(client, params.member) };
  if (params.user?.includes('@')) return { ...params, user: await userId(client, params, params.user) };
  return params;
}

async function memberId(client: HttpClient, email: string): Promise<string> {
  const { items } = await client.call(operations.members.list, {});
  const found = items.find((member) => member.email?.toLowerCase() === email.toLowerCase());
  if (!found) throw new CommandError(`There is no member ${email}, or you may not see the address. \`orchard member list\` lists them.`, 5);
  return found.id;
}

async function userId(client: HttpClient, { app = '', environment = '' }: Params, email: string): Promise<string> {
  const filter = `email = '${(mailAddress.safeParse(email).data ?? email).replaceAll("'", "''")}'`;
  const { items } = await client.call(operations.users.list, { params: { app, environment }, query: { filter, limit: 1 } });
  if (!items[0]) throw new CommandError(`There is no user ${email} in ${app}/${environment}. \`orchard user list\` lists them.`, 5);
  return items[0].id;
}
