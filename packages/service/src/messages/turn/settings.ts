import type { BodyOf, operations, TurnSettings } from '@orchard/contract';
import type { Environment } from '../../platform/call.js';
import { seal, unseal } from '../../platform/access/secrets.js';
import { Settings } from '../../platform/settings/settingStore.js';

type Stored = Omit<TurnSettings, 'hasSecret'> & { sealed: string | null };
const stored = new Settings<Stored>('turn', () => ({ addresses: [], minutes: 60, who: "me('id') IS NOT NULL", sealed: null }));
const contextOf = ({ sealedFor: id }: Environment) => `turn:${id}`;

/** As the team sees them: without the secret. */
export async function readTurn(environment: Environment): Promise<TurnSettings> {
  const { sealed, ...shown } = await stored.read(environment);
  return { ...shown, hasSecret: sealed !== null };
}

export async function secretOf(environment: Environment): Promise<string | null> {
  const { sealed } = await stored.read(environment);
  return sealed === null ? null : unseal(environment.keys.data, contextOf(environment), sealed).toString();
}

type Changes = BodyOf<typeof operations.turn.change>;
export async function changeTurn(environment: Environment, { secret, ...changes }: Changes, now: Date): Promise<TurnSettings> {
  stored.forget(environment);
  const given = Object.fromEntries(Object.entries(changes).filter(([, value]) => value !== undefined));
  const sealed = secret && seal(environment.keys.data, contextOf(environment), secret);
  const next = { ...(await stored.read(environment)), ...given, ...(sealed === undefined ? {} : { sealed }) } as Stored;
  await stored.write(environment, next, now);
  return readTurn(environment);
}
