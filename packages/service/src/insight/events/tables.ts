import type { PropertyType } from '@orchard/core/insight';
import { bigint, binary, boolean, customType, date, index, int, json, mysqlTable, primaryKey, text, varchar } from 'drizzle-orm/mysql-core';
import { id, instant } from '../../platform/database/columns.js';

const bytes = customType<{ data: Buffer }>({ dataType: () => 'mediumblob' });

/** Events that are not packed yet. */
export const eventTable = mysqlTable(
  '_events',
  {
    /** The order of arrival. */
    number: bigint('number', { mode: 'number' }).autoincrement().primaryKey(),
    at: instant('at').notNull(),
    receivedAt: instant('receivedAt').notNull(),
    person: int('person', { unsigned: true }).notNull(),
    name: varchar('name', { length: 100 }).notNull(),
    visit: int('visit', { unsigned: true }).notNull(),
    context: int('context', { unsigned: true }).notNull(),
    userId: id('userId'),
    deviceId: id('deviceId'),
    /** Own properties as JSON; null for none. */
    properties: text('properties'),
  },
  (t) => [index('events_at').on(t.at), index('events_person').on(t.person)],
);

/** Ids that were brought, so that an event sent again counts once. */
export const eventIdTable = mysqlTable(
  '_eventIds',
  {
    hash: binary('hash', { length: 16 }).primaryKey(),
    /** The call that brought it. */
    call: binary('call', { length: 8 }).notNull(),
    at: instant('at').notNull(),
  },
  (t) => [index('eventIds_at').on(t.at)],
);

/** Built-in properties as they come together: a few hundred combinations for millions of events. */
export const eventContextTable = mysqlTable('_eventContexts', {
  number: int('number', { unsigned: true }).autoincrement().primaryKey(),
  hash: binary('hash', { length: 16 }).notNull().unique('eventContexts_hash'),
  properties: json('properties').$type<Record<string, string>>().notNull(),
});

/** People by number: users, and devices while nobody has signed in there. */
export const personTable = mysqlTable(
  '_people',
  {
    number: int('number', { unsigned: true }).autoincrement().primaryKey(),
    userId: varchar('userId', { length: 64 }).unique('people_user'),
    /** Whom a nameless one became when somebody signed in. */
    became: int('became', { unsigned: true }),
    firstAt: instant('firstAt').notNull(),
    erasedAt: instant('erasedAt'),
    /** Erased from the packed days, too. */
    isGone: boolean('isGone').notNull().default(false),
    changedAt: instant('changedAt').notNull(),
  },
  (t) => [index('people_changed').on(t.changedAt), index('people_became').on(t.became)],
);

/** The nameless person who uses a device now. */
export const devicePersonTable = mysqlTable('_devicePeople', {
  deviceId: id('deviceId').primaryKey(),
  person: int('person', { unsigned: true }).notNull(),
});

/** Devices that people were seen on. */
export const personDeviceTable = mysqlTable(
  '_personDevices',
  { person: int('person', { unsigned: true }).notNull(), deviceId: id('deviceId').notNull() },
  (t) => [primaryKey({ name: 'personDevices_key', columns: [t.person, t.deviceId] })],
);

/** Days whose events are packed, in columns. */
export const eventDayTable = mysqlTable('_eventDays', {
  day: date('day', { mode: 'string' }).primaryKey(),
  /** Grows with every packing. */
  version: int('version').notNull(),
  rows: int('rows').notNull(),
});

export const eventColumnTable = mysqlTable(
  '_eventColumns',
  {
    day: date('day', { mode: 'string' }).notNull(),
    name: varchar('name', { length: 100 }).notNull(),
    /** Deflated. */
    bytes: bytes('bytes').notNull(),
  },
  (t) => [primaryKey({ name: 'eventColumns_key', columns: [t.day, t.name] })],
);

/** Names and properties that came. */
export const seenPropertyTable = mysqlTable(
  '_eventProperties',
  {
    event: varchar('event', { length: 100 }).notNull(),
    /** Empty for the event itself. */
    property: varchar('property', { length: 63 }).notNull(),
    type: varchar('type', { length: 8 }).$type<PropertyType | ''>().notNull(),
    firstAt: instant('firstAt').notNull(),
    lastAt: instant('lastAt').notNull(),
    /** Events that were not as planned. */
    misfits: int('misfits').notNull().default(0),
  },
  (t) => [primaryKey({ name: 'eventProperties_key', columns: [t.event, t.property, t.type] })],
);

export const plannedEventTable = mysqlTable('_eventPlan', {
  name: varchar('name', { length: 100 }).primaryKey(),
  description: varchar('description', { length: 500 }).notNull(),
  owner: varchar('owner', { length: 100 }).notNull(),
  properties: json('properties').$type<Record<string, { type: PropertyType; description?: string | undefined }>>().notNull(),
});

export const eventRefusalTable = mysqlTable(
  '_eventRefusals',
  {
    problem: varchar('problem', { length: 30 }).notNull(),
    name: varchar('name', { length: 100 }).notNull(),
    client: varchar('client', { length: 40 }).notNull(),
    count: int('count').notNull(),
    firstAt: instant('firstAt').notNull(),
    lastAt: instant('lastAt').notNull(),
    detail: varchar('detail', { length: 500 }).notNull(),
    sample: text('sample').notNull(),
  },
  (t) => [primaryKey({ name: 'eventRefusals_key', columns: [t.problem, t.name, t.client] }), index('eventRefusals_last').on(t.lastAt)],
);
