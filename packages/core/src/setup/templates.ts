/** Setups to begin a new app with. */
import { RULE_PRESETS } from '../access.js';
import type { JsonObject } from '../json.js';

export const SETUP_TEMPLATES = ['blank', 'shared-list', 'bookings', 'field-reports'] as const;
export type SetupTemplate = (typeof SETUP_TEMPLATES)[number];

const OWNER = { read: 'owner', create: 'owner', update: 'owner', delete: 'owner' };
const TOGETHER = { read: 'signed-in', create: 'signed-in', update: 'signed-in', delete: 'owner' };

const TEMPLATES: { [name in SetupTemplate]: { title: string; setup: JsonObject } } = {
  blank: { title: 'Nothing yet: collections come about with the first records', setup: {} },
  'shared-list': {
    title: 'A list that everybody who is signed in keeps together',
    setup: {
      collections: {
        lists: { fields: { title: { type: 'text', required: true, maxLength: 100 } }, rules: TOGETHER },
        items: {
          fields: {
            list: { type: 'reference', to: 'lists', required: true, onDelete: 'cascade' },
            text: { type: 'text', required: true, maxLength: 500 },
            done: { type: 'boolean', default: false },
            doneBy: { type: 'reference', to: 'users' },
          },
          rules: TOGETHER,
          indexes: [{ fields: ['list', 'done'] }],
        },
      },
      topics: { lists: { title: 'New lists' } },
    },
  },
  bookings: {
    title: 'Places that people book for some nights',
    setup: {
      collections: {
        places: {
          fields: {
            name: { type: 'text', required: true, unique: true, maxLength: 100 },
            bunks: { type: 'integer', required: true, min: 1 },
            position: { type: 'place' },
            state: { type: 'choice', choices: ['open', 'full', 'closed'], default: 'open' },
          },
          rules: { read: 'everyone', create: 'nobody', update: 'nobody', delete: 'nobody' },
          indexes: [{ fields: ['position'] }],
        },
        bookings: {
          fields: {
            place: { type: 'reference', to: 'places', required: true, onDelete: 'restrict' },
            arrives: { type: 'date', required: true },
            nights: { type: 'integer', required: true, min: 1, max: 14 },
            party: { type: 'integer', default: 1, min: 1 },
            state: { type: 'choice', choices: ['held', 'paid', 'cancelled'], default: 'held' },
          },
          rules: OWNER,
          indexes: [{ fields: ['place', 'arrives'] }],
        },
      },
      userFields: { member: { type: 'boolean', description: 'Member of the association', changedBy: 'servers' } },
      roles: { warden: { description: 'Looks after places' } },
      events: { booking_made: { description: 'Somebody booked', properties: { nights: { type: 'number' } } } },
    },
  },
  'field-reports': {
    title: 'What people see out there, with position and photo, approved before everybody sees it',
    setup: {
      collections: {
        reports: {
          fields: {
            kind: { type: 'choice', choices: ['hazard', 'damage', 'sighting'], required: true },
            note: { type: 'text', maxLength: 2000 },
            position: { type: 'place', required: true },
            photo: { type: 'file', withRecord: 'delete' },
            seenAt: { type: 'time', default: 'now()' },
            state: {
              type: 'choice',
              choices: ['reported', 'approved', 'settled'],
              default: 'reported',
              setBy: "A_CONTAINS(me('roles'), ('editor'))",
            },
          },
          rules: {
            read: "state = 'approved' OR ownerId = me('id') OR A_CONTAINS(me('roles'), ('editor'))",
            create: 'signed-in',
            update: "ownerId = me('id') OR A_CONTAINS(me('roles'), ('editor'))",
            delete: 'owner',
          },
          indexes: [{ fields: ['position'] }, { fields: ['state', 'seenAt'] }],
        },
      },
      roles: { editor: { description: 'Approves reports' } },
      folders: {
        reports: {
          rules: {
            read: RULE_PRESETS['signed-in'],
            create: RULE_PRESETS['signed-in'],
            update: RULE_PRESETS.owner,
            delete: RULE_PRESETS.owner,
          },
        },
      },
      topics: { reports: { title: 'Approved reports' } },
    },
  },
};

/** A template's title, and its setup as in a setup file. */
export const setupTemplate = (name: SetupTemplate): { title: string; setup: JsonObject } => TEMPLATES[name];
