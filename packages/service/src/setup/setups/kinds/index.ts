/** Every kind of part, with how it is read and put. */
import { operations, type SetupKind, upstreamDefinition } from '@orchard/contract';
import { type AccessRules, type JsonObject, OWNER_ONLY, own, RECORD_ACTIONS } from '@orchard/core';
import type { SetupCalls } from '../calls.js';
import { collectionWays } from './collections.js';
import { asList, byName, type KindWays, type NamedParts, named, once, pick, without } from './kind.js';
import { channelWays, gatewayWays, messagingWays, standingWays, topicWays } from './messages.js';
import { entryWays, mailWays, roleWays, signInPageWays, userFieldWays, wayWays } from './people.js';

const UPSTREAM = operations.upstreams;
const upstreamWays = byName('the upstream', {
  read: async (calls) => named((await calls.read(UPSTREAM.list)).items, Object.keys(upstreamDefinition.shape)),
  put: (calls, upstream, body) => calls.write(UPSTREAM.put, { params: { upstream }, body }),
  remove: (calls, upstream) => calls.write(UPSTREAM.remove, { params: { upstream } }),
});

const FUNCTION = operations.functions;
const DEFINITION = Object.keys(FUNCTION.put.body?.shape ?? {}).filter((name) => !['source', 'files', 'use'].includes(name));
const functionWays = byName('the function', {
  read: async (calls) => {
    const { items } = await calls.read(FUNCTION.list);
    const inForce = items.filter(({ version }) => version > 0);
    const parts = await Promise.all(
      inForce.map(async (one) => {
        const { items: versions } = await calls.read(FUNCTION.versions, { params: { name: one.name } });
        const files = versions.find(({ version }) => version === one.version)?.files ?? {};
        return [one.name, { ...pick(one, DEFINITION), files } as JsonObject] as const;
      }),
    );
    return Object.fromEntries(parts);
  },
  normal: (part, name) =>
    without(part, { path: name, methods: ['GET'], callers: 'signed-in', zone: 'UTC', missed: 'once', rights: 'caller', hosts: [] }),
  put: (calls, name, body) => calls.write(FUNCTION.put, { params: { name }, body }),
  remove: (calls, name) => calls.write(FUNCTION.remove, { params: { name } }),
});

/** The folder of all others has no name; in a file it is `/`. It always has rules: those of a new environment are not told. */
const ROOT = '/';
const pathOf = (name: string) => (name === ROOT ? '' : name);
const FILES = operations.managedFiles;
const isUntouched = (folder: { path: string; rules: object | null; public: boolean }) =>
  !folder.public &&
  (folder.rules === null ||
    (folder.path === '' && RECORD_ACTIONS.every((action) => own(folder.rules as AccessRules, action) === OWNER_ONLY[action])));
const folderWays = byName('the rules of the folder', {
  read: async (calls) => {
    const { items } = await calls.read(FILES.folderSettings);
    return Object.fromEntries(
      items.filter((folder) => !isUntouched(folder)).map((folder) => [folder.path || ROOT, pick(folder, ['rules', 'public'])]),
    );
  },
  put: (calls, name, body) => calls.write(FILES.changeFolderSettings, { query: { path: pathOf(name) }, body }),
  remove: (calls, name) =>
    calls.write(FILES.changeFolderSettings, {
      query: { path: pathOf(name) },
      body: { rules: name === ROOT ? OWNER_ONLY : null, public: false },
    }),
});

const EVENT = operations.events;
const eventWays = byName('the planned event', {
  read: async (calls) => {
    const { items } = await calls.read(EVENT.list);
    return Object.fromEntries(
      items
        .filter(({ planned }) => planned)
        .map(({ name, description, owner, properties }) => {
          const kept = properties.filter(({ planned }) => planned);
          return [
            name,
            { description, owner, properties: Object.fromEntries(kept.map((one) => [one.name, pick(one, ['type', 'description'])])) },
          ];
        }),
    );
  },
  normal: ({ properties, ...event }) => ({
    ...event,
    properties: Object.fromEntries(
      Object.entries((properties ?? {}) as NamedParts).map(([name, property]) => [name, without(property, { description: '' })]),
    ),
  }),
  put: (calls, event, body) => calls.write(EVENT.plan, { params: { event }, body }),
  remove: (calls, event) => calls.write(EVENT.unplan, { params: { event } }),
});

const asItems = (all: NamedParts) => Object.entries(all).map(([name, part]) => ({ name, ...part }));
const byOwnName = (items: readonly object[]): NamedParts =>
  Object.fromEntries(
    items.map((item) => [
      (item as { name: string }).name,
      pick(
        item,
        Object.keys(item).filter((name) => name !== 'name'),
      ),
    ]),
  );

const objectiveWays = asList(
  'the objectives',
  async (calls) => byOwnName((await calls.read(operations.objectives.read)).items),
  (calls, all) => calls.write(operations.objectives.replace, { body: { items: asItems(all), why: 'A release of the setup' } }),
);
const alertWays = asList(
  'the alert rules',
  async (calls) => byOwnName((await calls.read(operations.alerts.read)).rules),
  async (calls, all) => {
    const { rotas } = await calls.read(operations.alerts.read);
    return calls.write(operations.alerts.replace, { body: { rules: asItems(all), rotas } });
  },
);

const REPORT = operations.reports;
const reportWays = byName('the report', {
  read: async (calls) =>
    named(
      (await calls.read(REPORT.list)).items,
      Object.keys(REPORT.save.body?.shape ?? {}).filter((name) => name !== 'name'),
    ),
  put: (calls, name, part) => calls.write(REPORT.save, { body: { name, ...part } }),
  remove: async (calls, name) => {
    const known = (await calls.read(REPORT.list)).items.find((one) => one.name === name);
    if (known) await calls.write(REPORT.remove, { params: { report: known.id } });
  },
});

const broadcastWays = once(
  'the settings of broadcasts',
  async (calls) => (await calls.read(operations.managedBroadcasts.settings)) as JsonObject,
  (calls, body) => calls.write(operations.managedBroadcasts.changeSettings, { body }),
);
const callWays = once(
  'calls between people',
  async (calls: SetupCalls) => pick(await calls.read(operations.turn.settings), ['addresses', 'minutes', 'who']),
  (calls, body) => calls.write(operations.turn.change, { body }),
);

export const KIND_WAYS: Record<SetupKind, KindWays> = {
  userFields: userFieldWays,
  collections: collectionWays,
  roles: roleWays,
  entry: entryWays,
  signInPage: signInPageWays,
  ways: wayWays,
  mails: mailWays,
  upstreams: upstreamWays,
  gateways: gatewayWays,
  messaging: messagingWays,
  topics: topicWays,
  channels: channelWays,
  folders: folderWays,
  broadcasts: broadcastWays,
  calls: callWays,
  functions: functionWays,
  standing: standingWays,
  events: eventWays,
  objectives: objectiveWays,
  alerts: alertWays,
  reports: reportWays,
};
