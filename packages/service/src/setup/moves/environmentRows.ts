/** What a move notes of an environment in the installation. */
import { and, eq } from 'drizzle-orm';
import { environments } from '../../platform/access/systemTables.js';
import type { Environment } from '../../platform/call.js';
import type { Parts } from './parts.js';

type Ground = Pick<Parts, 'database'>;

/** From now on every instance looks often where the environment is. */
export async function markMoving({ database }: Ground, { id }: Environment, move: string): Promise<void> {
  await database.orm.update(environments).set({ moving: move }).where(eq(environments.id, id));
}

export async function unmarkMoving({ database }: Ground, { id }: Environment, move: string): Promise<void> {
  await database.orm
    .update(environments)
    .set({ moving: null })
    .where(and(eq(environments.id, id), eq(environments.moving, move)));
}

/** @returns false where the mark is gone: the move was undone */
export async function noteServer({ database }: Ground, { id }: Environment, move: string, server: string | null): Promise<boolean> {
  const [changed] = await database.orm
    .update(environments)
    .set({ server, moving: null })
    .where(and(eq(environments.id, id), eq(environments.moving, move)));
  return changed.affectedRows === 1;
}

/** It lives in another installation. */
export async function noteMovedTo({ database }: Ground, { id }: Environment, address: string): Promise<void> {
  await database.orm.update(environments).set({ movedTo: address, moving: null }).where(eq(environments.id, id));
}
