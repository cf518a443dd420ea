/** Fields of users that the team has defined: their values stand in the users' data. */
import { Problem } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { checkUserData, ruleFields, shownData, type UserFields } from '@orchard/core/accounts';
import type { Environment } from '../../platform/call.js';
import { storedJson } from '../../platform/database/storedJson.js';
import { Settings } from '../../platform/settings/settingStore.js';
import { presentUser, type UserRow } from './store.js';

type Kept = { fields: UserFields };
export const userFields = new Settings<Kept>('user fields', () => ({ fields: {} }));

export const fieldsIn = async (environment: Environment): Promise<UserFields> => (await userFields.read(environment)).fields;

/**
 * Changes of a user's data in normal form.
 * @throws {Problem} invalid-input
 */
export async function demandData(
  environment: Environment,
  changes: JsonObject,
  how: { by: 'user' | 'servers'; whole: boolean },
): Promise<JsonObject> {
  const { values, problems } = checkUserData(await fieldsIn(environment), changes, how);
  const [first] = problems;
  if (!first) return values;
  throw new Problem('invalid-input', first.problem, { fields: problems.map((one) => ({ ...one, path: `body.data.${one.path}` })) });
}

/** A user as they see themselves. */
export async function presentToSelf(environment: Environment, row: UserRow) {
  const user = presentUser(row);
  return { ...user, data: shownData(await fieldsIn(environment), user.data) };
}

/** What rules may ask of a user. */
export const fieldsForRules = async (environment: Environment, row: Pick<UserRow, 'data'>): Promise<JsonObject> =>
  ruleFields(await fieldsIn(environment), storedJson(row.data) as JsonObject);
