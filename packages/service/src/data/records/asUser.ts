import { THE_SERVICE, writeActor } from '@orchard/core';
import { fieldsForRules } from '../../people/users/fields.js';
import { UserStore } from '../../people/users/store.js';
import type { Environment } from '../../platform/call.js';
import type { Author } from './author.js';

/** A user as a trial has them: rules apply, and refusals say why. @throws {Problem} not-found */
export async function asUser(environment: Environment, id: string): Promise<Author> {
  const user = await new UserStore().named(environment, id);
  return {
    userId: id,
    roles: user.roles ?? [],
    fields: await fieldsForRules(environment, user),
    trusted: false,
    told: true,
    by: writeActor(THE_SERVICE),
  };
}
