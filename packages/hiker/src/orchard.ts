/** The app's connection: one library, one client profile, and what the phone keeps at hand. */
import { connect, type Orchard } from '@orchard/client';
import type { Schema } from './schema.js';

export async function openOrchard(): Promise<Orchard<Schema>> {
  const profile = await (await fetch('/orchard-client.json')).json();
  const orchard = connect<Schema>(profile);
  await orchard.sync.declare([
    { collection: 'huts', indexes: ['region'] },
    { collection: 'bulletins', live: true },
    { collection: 'hazards' },
    { collection: 'bookings', filter: "ownerId = me('id')", bring: ['hut'] },
  ]);
  return orchard;
}
