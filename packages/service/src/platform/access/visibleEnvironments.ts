import type { Environment, SignedInMember } from '../call.js';
import type { Platform } from '../platform.js';

/** The environments a member has a role in, apps in order of their names. */
export async function visibleEnvironments({ directory, members }: Platform, member: SignedInMember): Promise<Environment[]> {
  const [environments, roles] = await Promise.all([directory.allEnvironments(), members.rolesOf(member)]);
  return environments
    .filter(({ id }) => roles.has(id))
    .sort((a, b) => a.app.localeCompare(b.app) || a.createdAt.getTime() - b.createdAt.getTime());
}
