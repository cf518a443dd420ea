/**
 * Tables of an environment's database. Their names begin with `_`, which no collection's name can, so that a
 * collection may be called `users`. Changes become a migration: `npm run migration -- environment <name>`.
 */
import {
  bigint,
  boolean,
  char,
  datetime,
  index,
  int,
  json,
  longtext,
  mysqlSchema,
  mysqlTable,
  primaryKey,
  smallint,
  text,
  uniqueIndex,
  varchar,
} from 'drizzle-orm/mysql-core';
import { LRUCache } from 'lru-cache';
import type { JsonObject } from '@orchard/core';

const instant = (name: string) => datetime(name, { mode: 'date', fsp: 3 });
const id = (name = 'id') => varchar(name, { length: 64 });

function define(table: typeof mysqlTable) {
  const users = table(
    '_users',
    {
      id: id().primaryKey(),
      email: varchar('email', { length: 254 }).notNull(),
      name: varchar('name', { length: 200 }),
      passwordHash: varchar('passwordHash', { length: 255 }).notNull(),
      roles: json('roles').$type<string[]>().notNull(),
      data: json('data').$type<JsonObject>().notNull(),
      disabled: boolean('disabled').notNull().default(false),
      /** E.164. */
      phone: varchar('phone', { length: 16 }),
      phoneVerifiedAt: instant('phoneVerifiedAt'),
      createdAt: instant('createdAt').notNull(),
      updatedAt: instant('updatedAt').notNull(),
      lastSeenAt: instant('lastSeenAt'),
    },
    (t) => [
      uniqueIndex('users_email').on(t.email),
      index('users_created').on(t.createdAt),
      index('users_updated').on(t.updatedAt),
      index('users_phone').on(t.phone),
    ],
  );

  /** A session is a family of refresh tokens; only the token of the current generation is good. */
  const sessions = table(
    '_sessions',
    {
      id: id().primaryKey(),
      userId: id('userId').notNull(),
      client: varchar('client', { length: 40 }).notNull(),
      generation: int('generation').notNull(),
      createdAt: instant('createdAt').notNull(),
      expiresAt: instant('expiresAt').notNull(),
      /** When the refresh token of this generation was given for the one before. */
      renewedAt: instant('renewedAt'),
      endedAt: instant('endedAt'),
      endedReason: varchar('endedReason', { length: 40 }),
    },
    (t) => [index('sessions_user').on(t.userId)],
  );

  /** One-time addresses for users: a password to set anew. Only hashes are kept. */
  const userLinks = table(
    '_userLinks',
    {
      tokenHash: char('tokenHash', { length: 64 }).primaryKey(),
      userId: id('userId').notNull(),
      expiresAt: instant('expiresAt').notNull(),
    },
    (t) => [index('userLinks_user').on(t.userId)],
  );

  /** Failed sign-ins by account and address, and addresses that accounts are used from. */
  const guesses = table(
    '_guesses',
    { who: char('who', { length: 43 }).primaryKey(), failures: int('failures').notNull(), lastAt: instant('lastAt').notNull() },
    (t) => [index('guesses_at').on(t.lastAt)],
  );

  /** The last version of each record that was deleted: one that comes back goes on from it. */
  const endedRecords = table(
    '_endedRecords',
    {
      collection: varchar('collection', { length: 63 }).notNull(),
      recordId: id('recordId').notNull(),
      version: int('version').notNull(),
    },
    (t) => [primaryKey({ columns: [t.collection, t.recordId] })],
  );

  const collections = table('_collections', {
    name: varchar('name', { length: 63 }).primaryKey(),
    rules: json('rules').$type<Record<string, string>>().notNull(),
    /** Constraints of the fields by name; types, keys and indexes are read from the table itself. */
    definition: json('definition').$type<JsonObject>(),
    /** Rises with every change of the collection's shape or rules, so that other instances notice. */
    revision: int('revision').notNull(),
    createdAt: instant('createdAt').notNull(),
  });

  /**
   * The change feed, written by triggers on each collection's table: one entry a write, in its transaction. Entries
   * come in the order of writing; their `number` is given after the commit, so that numbers appear in order.
   */
  const feed = table(
    '_feed',
    {
      entry: bigint('entry', { mode: 'number' }).autoincrement().primaryKey(),
      number: bigint('number', { mode: 'number' }).notNull().default(0),
      collection: varchar('collection', { length: 63 }).notNull(),
      recordId: id('recordId').notNull(),
      action: varchar('action', { length: 8 }).notNull(),
      version: int('version').notNull(),
      at: instant('at').notNull(),
      by: varchar('by', { length: 300 }).notNull(),
      before: longtext('before'),
      after: longtext('after'),
    },
    (t) => [index('feed_number').on(t.number), index('feed_record').on(t.collection, t.recordId, t.version), index('feed_at').on(t.at)],
  );

  /** Answers to writes that came with an Idempotency-Key, kept for a day. */
  const answers = table(
    '_answers',
    {
      key: char('key', { length: 43 }).primaryKey(),
      fingerprint: char('fingerprint', { length: 43 }).notNull(),
      status: smallint('status').notNull(),
      headers: json('headers').$type<Record<string, string>>(),
      body: longtext('body'),
      at: instant('at').notNull(),
    },
    (t) => [index('answers_at').on(t.at)],
  );

  /** What lists of each form have cost, for the adviser on indexes. */
  const queries = table(
    '_queries',
    {
      collection: varchar('collection', { length: 63 }).notNull(),
      form: char('form', { length: 22 }).notNull(),
      shape: json('shape').$type<JsonObject>().notNull(),
      example: text('example').notNull(),
      calls: bigint('calls', { mode: 'number' }).notNull(),
      totalUs: bigint('totalUs', { mode: 'number' }).notNull(),
      worstUs: int('worstUs').notNull(),
      lastAt: instant('lastAt').notNull(),
    },
    (t) => [primaryKey({ columns: [t.collection, t.form] })],
  );

  /** Filters, sorts and columns of a collection's page, kept under a name for the whole team. */
  const views = table(
    '_views',
    {
      id: id().primaryKey(),
      collection: varchar('collection', { length: 63 }).notNull(),
      name: varchar('name', { length: 80 }).notNull(),
      query: varchar('query', { length: 4000 }).notNull(),
      createdBy: varchar('createdBy', { length: 300 }).notNull(),
      createdAt: instant('createdAt').notNull(),
    },
    (t) => [uniqueIndex('views_name').on(t.collection, t.name)],
  );

  /** How many records and bytes each collection had, day by day. */
  const sizes = table(
    '_sizes',
    {
      collection: varchar('collection', { length: 63 }).notNull(),
      day: char('day', { length: 10 }).notNull(),
      records: bigint('records', { mode: 'number' }).notNull(),
      bytes: bigint('bytes', { mode: 'number' }).notNull(),
    },
    (t) => [primaryKey({ columns: [t.collection, t.day] })],
  );

  const devices = table(
    '_devices',
    {
      id: id().primaryKey(),
      userId: id('userId'),
      client: varchar('client', { length: 40 }),
      platform: varchar('platform', { length: 10 }).notNull(),
      appVersion: varchar('appVersion', { length: 40 }).notNull(),
      os: varchar('os', { length: 80 }).notNull(),
      model: varchar('model', { length: 80 }),
      locale: varchar('locale', { length: 35 }).notNull(),
      timeZone: varchar('timeZone', { length: 64 }).notNull(),
      /** ISO 3166-1, in capitals. */
      country: char('country', { length: 2 }),
      permission: varchar('permission', { length: 10 }).notNull(),
      endpoint: varchar('endpoint', { length: 1000 }),
      p256dh: char('p256dh', { length: 87 }),
      auth: char('auth', { length: 22 }),
      /** Which of the environment's web push keys the subscription was made with. */
      pushKey: varchar('pushKey', { length: 16 }),
      /** Its address at a push network of another kind, and the stage that address is of. */
      token: varchar('token', { length: 1000 }),
      tokenStage: varchar('tokenStage', { length: 5 }),
      /** The number on the app's icon, as far as it is known here. */
      badge: int('badge').notNull().default(0),
      retiredAt: instant('retiredAt'),
      retiredReason: varchar('retiredReason', { length: 200 }),
      createdAt: instant('createdAt').notNull(),
      updatedAt: instant('updatedAt').notNull(),
      lastSeenAt: instant('lastSeenAt').notNull(),
      /** Of the secret that calls for it bring; null until it has one. */
      secretHash: char('secretHash', { length: 64 }),
    },
    (t) => [index('devices_user').on(t.userId), index('devices_seen').on(t.lastSeenAt), index('devices_updated').on(t.updatedAt)],
  );

  /** A topic can be followed by anybody, or by those who have its role. */
  const topics = table('_topics', {
    name: varchar('name', { length: 200 }).primaryKey(),
    title: varchar('title', { length: 200 }),
    role: varchar('role', { length: 40 }),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  });

  const follows = table(
    '_follows',
    {
      topic: varchar('topic', { length: 200 }).notNull(),
      /** `device` or `user`. */
      kind: varchar('kind', { length: 6 }).notNull(),
      follower: id('follower').notNull(),
      at: instant('at').notNull(),
    },
    (t) => [primaryKey({ columns: [t.topic, t.kind, t.follower] }), index('follows_follower').on(t.kind, t.follower)],
  );

  const notifications = table(
    '_notifications',
    {
      id: id().primaryKey(),
      /** push, sms or mail. */
      way: varchar('way', { length: 4 }).notNull().default('push'),
      state: varchar('state', { length: 9 }).notNull().default('done'),
      content: json('content').$type<JsonObject>().notNull(),
      audience: json('audience').$type<JsonObject>().notNull(),
      urgency: varchar('urgency', { length: 10 }).notNull(),
      ttlS: int('ttlS').notNull(),
      replaces: varchar('replaces', { length: 32 }),
      /** What else was asked for: pace, quiet hours, local time, fall back. */
      options: json('options').$type<JsonObject>(),
      createdBy: varchar('createdBy', { length: 300 }).notNull(),
      createdAt: instant('createdAt').notNull(),
      startAt: instant('startAt'),
      startedAt: instant('startedAt'),
      doneAt: instant('doneAt'),
      /** The last device that has a delivery; `slices` tells how many sets of deliveries there are. */
      spreadTo: varchar('spreadTo', { length: 254 }),
      spread: boolean('spread').notNull().default(true),
      slices: int('slices').notNull().default(1),
      /** With a pace: when the next message may go, in milliseconds since 1970. */
      paceAt: bigint('paceAt', { mode: 'number' }).notNull().default(0),
      /** When a delivery of it last changed, to about a second. */
      changedAt: instant('changedAt'),
    },
    (t) => [index('notifications_state').on(t.state), index('notifications_changed').on(t.changedAt)],
  );

  const deliveries = table(
    '_deliveries',
    {
      notificationId: id('notificationId').notNull(),
      /** A device's id, a phone number, or a mail address. */
      target: varchar('target', { length: 254 }).notNull(),
      slice: int('slice').notNull().default(0),
      way: varchar('way', { length: 4 }).notNull().default('push'),
      gateway: varchar('gateway', { length: 40 }),
      userId: id('userId'),
      platform: varchar('platform', { length: 10 }),
      variant: char('variant', { length: 1 }).notNull().default('a'),
      state: varchar('state', { length: 8 }).notNull(),
      reason: varchar('reason', { length: 300 }),
      attempts: int('attempts').notNull().default(0),
      answer: smallint('answer'),
      /** The network's own words, and its id of the message. */
      said: varchar('said', { length: 300 }),
      messageId: varchar('messageId', { length: 120 }),
      /** The same for ways by which word comes later (receipts, failure notices): what that word is found by. */
      receiptId: varchar('receiptId', { length: 120 }),
      segments: smallint('segments'),
      nextAttemptAt: instant('nextAttemptAt'),
      sentAt: instant('sentAt'),
      receivedAt: instant('receivedAt'),
      openedAt: instant('openedAt'),
      updatedAt: instant('updatedAt').notNull(),
    },
    (t) => [
      primaryKey({ columns: [t.notificationId, t.target] }),
      // A set is small enough to be looked through for what is due; an index by time would be written with every result.
      index('deliveries_set').on(t.notificationId, t.slice),
      // Notifications have ids in order of time, so that this is also the order in which a target was sent them.
      index('deliveries_target').on(t.target, t.notificationId),
      index('deliveries_receipt').on(t.receiptId),
    ],
  );

  /** Short messages that came in. */
  const smsInbox = table(
    '_smsInbox',
    {
      id: id().primaryKey(),
      gateway: varchar('gateway', { length: 40 }).notNull(),
      sender: varchar('sender', { length: 21 }).notNull(),
      recipient: varchar('recipient', { length: 21 }).notNull(),
      text: text('text').notNull(),
      /** out, in, or null: what it asked for. */
      asked: varchar('asked', { length: 3 }),
      userId: id('userId'),
      at: instant('at').notNull(),
    },
    (t) => [index('smsInbox_at').on(t.at), index('smsInbox_sender').on(t.sender)],
  );

  /** Phone numbers and mail addresses that want no messages, or want them again. */
  const optOuts = table(
    '_optOuts',
    {
      way: varchar('way', { length: 4 }).notNull(),
      address: varchar('address', { length: 254 }).notNull(),
      state: varchar('state', { length: 3 }).notNull(),
      because: varchar('because', { length: 200 }).notNull(),
      at: instant('at').notNull(),
    },
    (t) => [primaryKey({ columns: [t.way, t.address] })],
  );

  /** One-time codes on their way to a number. */
  const codes = table('_codes', {
    number: varchar('number', { length: 16 }).primaryKey(),
    hash: char('hash', { length: 64 }).notNull(),
    tries: int('tries').notNull(),
    sent: int('sent').notNull(),
    firstAt: instant('firstAt').notNull(),
    sentAt: instant('sentAt').notNull(),
    expiresAt: instant('expiresAt').notNull(),
  });

  const channels = table('_channels', {
    name: varchar('name', { length: 200 }).primaryKey(),
    /** Filters that say who may listen and who may publish. */
    rules: json('rules').$type<{ listen: string; publish: string }>().notNull(),
    keep: int('keep').notNull(),
    createdBy: varchar('createdBy', { length: 300 }).notNull(),
    createdAt: instant('createdAt').notNull(),
  });

  const channelMessages = table(
    '_channelMessages',
    {
      number: bigint('number', { mode: 'number' }).autoincrement().primaryKey(),
      channel: varchar('channel', { length: 200 }).notNull(),
      data: json('data').$type<JsonObject>().notNull(),
      sender: varchar('sender', { length: 300 }).notNull(),
      at: instant('at').notNull(),
    },
    (t) => [index('channelMessages_channel').on(t.channel, t.number)],
  );

  /** Who listens on a channel: one row for each open stream, kept fresh while it is open. */
  const presence = table(
    '_presence',
    {
      channel: varchar('channel', { length: 200 }).notNull(),
      stream: id('stream').notNull(),
      userId: id('userId'),
      deviceId: id('deviceId'),
      since: instant('since').notNull(),
      until: instant('until').notNull(),
    },
    (t) => [primaryKey({ columns: [t.channel, t.stream] }), index('presence_until').on(t.until)],
  );

  const settings = table('_settings', {
    name: varchar('name', { length: 60 }).primaryKey(),
    value: json('value').$type<JsonObject>().notNull(),
    updatedAt: instant('updatedAt').notNull(),
  });

  const requests = table(
    '_requests',
    {
      id: char('id', { length: 36 }).notNull(),
      at: instant('at').notNull(),
      method: varchar('method', { length: 7 }).notNull(),
      route: varchar('route', { length: 120 }).notNull(),
      path: varchar('path', { length: 500 }).notNull(),
      status: smallint('status').notNull(),
      durationUs: int('durationUs').notNull(),
      databaseUs: int('databaseUs').notNull(),
      statements: smallint('statements').notNull(),
      client: varchar('client', { length: 40 }),
      keyId: varchar('keyId', { length: 64 }),
      userId: varchar('userId', { length: 64 }),
      deviceId: varchar('deviceId', { length: 64 }),
      trace: char('trace', { length: 32 }).notNull(),
      span: char('span', { length: 16 }).notNull(),
      parentSpan: char('parentSpan', { length: 16 }),
      problem: varchar('problem', { length: 40 }),
      detail: text('detail'),
      origin: varchar('origin', { length: 253 }),
      userAgent: varchar('userAgent', { length: 300 }),
      bytesIn: int('bytesIn').notNull(),
      bytesOut: int('bytesOut').notNull(),
    },
    (t) => [primaryKey({ columns: [t.at, t.id] })],
  );

  /** Counts and latency histogram of each minute, by route, client, status and the instance that counted. */
  const minutes = table(
    '_requestMinutes',
    {
      minute: datetime('minute', { mode: 'date' }).notNull(),
      method: varchar('method', { length: 7 }).notNull(),
      route: varchar('route', { length: 120 }).notNull(),
      client: varchar('client', { length: 40 }).notNull(),
      status: smallint('status').notNull(),
      instance: varchar('instance', { length: 16 }).notNull(),
      calls: int('calls').notNull(),
      histogram: text('histogram').notNull(),
    },
    (t) => [primaryKey({ columns: [t.minute, t.method, t.route, t.client, t.status, t.instance] })],
  );

  return {
    users,
    userLinks,
    guesses,
    endedRecords,
    sessions,
    collections,
    feed,
    answers,
    queries,
    views,
    sizes,
    devices,
    topics,
    follows,
    notifications,
    deliveries,
    smsInbox,
    optOuts,
    codes,
    channels,
    channelMessages,
    presence,
    settings,
    requests,
    minutes,
  };
}

export type EnvironmentTables = ReturnType<typeof define>;
const cache = new LRUCache<string, EnvironmentTables>({ max: 500 });

/** The tables of the environment whose database has this name. */
export function tablesOf(database: string): EnvironmentTables {
  const known = cache.get(database);
  if (known) return known;
  const tables = define(mysqlSchema(database).table as unknown as typeof mysqlTable);
  cache.set(database, tables);
  return tables;
}

/** The same without a database's name, for drizzle-kit. */
export const {
  users,
  userLinks,
  guesses,
  endedRecords,
  sessions,
  collections,
  feed,
  answers,
  queries,
  views,
  sizes,
  devices,
  topics,
  follows,
  notifications,
  deliveries,
  smsInbox,
  optOuts,
  codes,
  channels,
  channelMessages,
  presence,
  settings,
  requests,
  minutes,
} = define(mysqlTable);
