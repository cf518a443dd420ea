/** Sheets of the team's own: saved reports side by side. */
import { z } from 'zod';
import { actor, ENVIRONMENT, environmentParams, nothing, operation, time } from '../common.js';

const viewer = { kind: 'member', role: 'viewer' } as const;
const developer = { kind: 'member', role: 'developer' } as const;
const SHEETS = `${ENVIRONMENT}/insight/sheets`;
const sheetParams = environmentParams.extend({ sheet: z.string().max(64).describe('Its id or name') });

export const MOST_ON_SHEET = 20;
const settings = {
  name: z.string().trim().min(1).max(80),
  items: z
    .array(
      z.strictObject({
        report: z.string().max(64).describe('Id of a saved report'),
        width: z
          .union([z.literal(1), z.literal(2)])
          .default(1)
          .describe('Columns, of two'),
      }),
    )
    .max(MOST_ON_SHEET)
    .default([])
    .describe('In the order in which they are read'),
};
const newSheet = z.strictObject(settings).meta({ id: 'NewSheet' });
export type NewSheet = z.output<typeof newSheet>;
const sheet = z
  .object({
    id: z.string(),
    name: z.string(),
    items: z.array(z.object({ report: z.string(), name: z.string().nullable().describe('Null: it was deleted'), width: z.int() })),
    by: actor.describe('Who changed it last'),
    at: time,
  })
  .meta({ id: 'Sheet' });
export type Sheet = z.output<typeof sheet>;

export const sheetOperations = {
  list: operation({
    id: 'sheets.list',
    command: 'sheet list',
    method: 'GET',
    path: SHEETS,
    summary: 'Sheets of the team’s own',
    caller: viewer,
    params: environmentParams,
    reply: z.object({ items: z.array(sheet) }),
  }),
  read: operation({
    id: 'sheets.read',
    command: 'sheet show',
    method: 'GET',
    path: `${SHEETS}/{sheet}`,
    summary: 'A sheet: the reports on it, in order',
    caller: viewer,
    params: sheetParams,
    reply: sheet,
    problems: ['not-found'],
  }),
  add: operation({
    id: 'sheets.add',
    changes: 'sheet',
    command: 'sheet add <name>',
    method: 'POST',
    path: SHEETS,
    summary: 'Lay saved reports side by side',
    caller: developer,
    params: environmentParams,
    body: newSheet,
    status: 201,
    reply: sheet,
    problems: ['invalid-input', 'already-exists', 'wrong-state'],
  }),
  change: operation({
    id: 'sheets.change',
    changes: 'sheet',
    command: 'sheet change',
    method: 'PUT',
    path: `${SHEETS}/{sheet}`,
    summary: 'Name a sheet anew, and say what stands on it in which order',
    caller: developer,
    params: sheetParams,
    body: newSheet,
    reply: sheet,
    problems: ['not-found', 'invalid-input', 'already-exists'],
  }),
  remove: operation({
    id: 'sheets.remove',
    changes: 'sheet',
    command: 'sheet remove',
    method: 'DELETE',
    path: `${SHEETS}/{sheet}`,
    summary: 'Remove a sheet; its reports stay',
    caller: developer,
    params: sheetParams,
    status: 204,
    reply: nothing,
    problems: ['not-found'],
  }),
};
