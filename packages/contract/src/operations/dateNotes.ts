/** Notes on dates, which charts over time show: a release, a storm, a campaign. */
import { z } from 'zod';
import { actor, ENVIRONMENT, environmentParams, nothing, operation, time } from '../common.js';

const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const NOTES = `${ENVIRONMENT}/insight/date-notes`;
const note = z.object({ id: z.string(), at: time, text: z.string(), by: actor }).meta({ id: 'DateNote' });
export type DateNote = z.output<typeof note>;

export const dateNoteOperations = {
  list: operation({
    id: 'dateNotes.list',
    command: 'date-note list',
    method: 'GET',
    path: NOTES,
    summary: 'Notes on dates, latest first',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(note) }),
  }),
  add: operation({
    id: 'dateNotes.add',
    changes: 'date note',
    command: 'date-note add <at> <text>',
    method: 'POST',
    path: NOTES,
    summary: 'Put a note on a date; charts over time show it there',
    caller: developer,
    params: environmentParams,
    body: z.strictObject({
      at: z.union([z.iso.date(), time]).describe('A date, such as 2026-05-14, or a time'),
      text: z.string().trim().min(1).max(80),
    }),
    status: 201,
    reply: note,
    problems: ['wrong-state'],
  }),
  remove: operation({
    id: 'dateNotes.remove',
    changes: 'date note',
    command: 'date-note remove',
    method: 'DELETE',
    path: `${NOTES}/{note}`,
    summary: 'Take a note off its date',
    caller: developer,
    params: environmentParams.extend({ note: z.string().max(64) }),
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
