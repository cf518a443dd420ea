import { type DateNote, operations, Problem } from '@orchard/contract';
import { authorOf, bind, type Environment, environmentOf, type Route } from '../../platform/call.js';
import type { Platform } from '../../platform/platform.js';
import { type DateNoteRow, DateNoteStore } from './store.js';

/** More would cover the charts. */
const MOST = 500;

export function dateNoteRoutes(parts: Platform): Route[] {
  const own = operations.dateNotes;
  const store = new DateNoteStore();
  const present = ({ actors }: Environment, { id, at, text, by }: DateNoteRow): DateNote => ({
    id,
    at: at.toISOString(),
    text,
    by: actors.show(by),
  });
  return [
    bind(own.list, async (call) => {
      const environment = environmentOf(call);
      return { body: { items: (await store.list(environment)).map((row) => present(environment, row)) } };
    }),
    bind(own.add, async (call) => {
      const environment = environmentOf(call);
      if ((await store.count(environment)) >= MOST)
        throw new Problem('wrong-state', `There are ${MOST} notes here already. Remove old ones first.`);
      const row = { id: parts.newId(), at: new Date(call.body.at), text: call.body.text, by: authorOf(call) };
      await store.add(environment, row);
      return { body: present(environment, row) };
    }),
    bind(
      own.remove,
      async (call) => {
        const environment = environmentOf(call);
        if (!(await store.find(environment, call.params.note))) throw new Problem('not-found', 'There is no such note on a date.');
        await store.remove(environment, call.params.note);
        return { body: undefined };
      },
      {
        read: async (call) => {
          const row = await store.find(environmentOf(call), call.params.note);
          return row ? present(environmentOf(call), row) : null;
        },
      },
    ),
  ];
}
