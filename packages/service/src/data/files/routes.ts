import { operations } from '@orchard/contract';
import { type Answer, bind, type Call, type Environment, environmentOf, type Route } from '../../platform/call.js';
import { authorOf } from '../records/author.js';
import type { WritePlace } from '../records/gate.js';
import { expectedOf } from '../records/writing.js';
import { fileOfForm } from './addressing.js';
import { answerContent, answerHead, type Content } from './answering.js';
import { answerArchive } from './archiving.js';
import { damagedFiles, editionsOf, listDeleted, readUse } from './fileStore.js';
import { ensureFolder } from './folderStore.js';
import type { FilesRoom } from './filesRoom.js';
import { filePathOf, folderPathOf } from './paths.js';
import { propertiesIn, receive } from './receiving.js';
import { addProperty, propertiesOf } from './properties.js';
import { fileSettings } from './settings.js';
import { tryFolderRule } from './trying.js';

type Own = typeof operations.files;
type OfFolders = typeof operations.folders;
/** A change of a file waits for its content and for functions of the team, so its entries stand apart. */
const APART = { as: 'apart' } as const;
const placeOf = (call: Call): WritePlace => ({ environment: environmentOf(call), author: authorOf(call) });
const tagged = <B extends { version: number }>(body: B, status?: number): Answer<B> => ({
  body,
  headers: { ETag: `"${body.version}"` },
  ...(status ? { status } : {}),
});

/** Files, for apps and servers (the rules of folders decide; a server key needs only its scope). */
export function fileRoutes(room: FilesRoom): Route[] {
  const { files, folders, uploads } = operations;
  return [
    ...bindFiles(room, files),
    ...bindFolders(room, folders),
    ...Object.values(uploads).map((operation) => bind(operation, (call) => room.resumable.handle(call as Call), APART)),
    ...bindOpen(room, files),
  ];
}

/** The same for members (their role decides), and what only they do. */
export function managedFileRoutes(room: FilesRoom): Route[] {
  const own = operations.managedFiles;
  const folders = {
    listRoot: own.listRoot,
    list: own.list,
    make: own.make,
    move: own.move,
    remove: own.removeFolder,
    archive: own.archive,
  };
  return [
    ...bindFiles(room, own as unknown as Own),
    ...bindFolders(room, folders as unknown as OfFolders),
    ...[own.begin, own.offset, own.append, own.end].map((operation) =>
      bind(operation, (call) => room.resumable.handle(call as Call), APART),
    ),
    ...bindManaging(room),
  ];
}

/** The content that a call asks for: a file, an edition of it, or a rendition. */
async function contentOf(room: FilesRoom, call: Call<Own['get']>): Promise<Content> {
  const environment = environmentOf(call);
  const row = await room.reading.readable(environment, authorOf(call), call.params.path);
  return room.reading.content(environment, row, call.query, call.headers.accept, 'private');
}

function bindFiles(room: FilesRoom, own: Own): Route[] {
  const { reading, storing, changes, contents } = room;
  return [
    // Before GET, which would answer it.
    bind(own.head, async (call) => answerHead(call as Call, await contentOf(room, call as never))),
    bind(own.get, async (call) => answerContent(call as Call, contents, environmentOf(call), await contentOf(room, call))),
    bind(
      own.put,
      async (call) => {
        const place = placeOf(call as Call);
        const path = filePathOf(call.params.path);
        const wish = { properties: propertiesIn(call.query.properties, 'query.properties'), expected: expectedOf(call) };
        await storing.demandBefore(place, path, wish);
        const { file, created } = await storing.store(
          place,
          path,
          await receive(call as Call, contents, place.environment, call.request),
          wish,
        );
        return tagged(file, created ? 201 : 200);
      },
      APART,
    ),
    bind(
      own.change,
      async (call) => tagged(await changes.change(placeOf(call as Call), call.params.path, call.body, expectedOf(call))),
      APART,
    ),
    bind(
      own.remove,
      async (call) => {
        await changes.remove(placeOf(call as Call), call.params.path, expectedOf(call));
        return { body: undefined };
      },
      APART,
    ),
    bind(own.editions, async (call) => {
      const environment = environmentOf(call);
      const row = await reading.readable(environment, authorOf(call), call.params.path);
      return { body: { items: await editionsOf(environment, row.id) } };
    }),
    bind(own.describe, async (call) => {
      const environment = environmentOf(call);
      const row = await reading.readable(environment, authorOf(call), call.params.path);
      return tagged(await storing.shown(environment, await room.parts.catalogue.files(environment), row, authorOf(call)));
    }),
    bind(own.live, (call) => reading.live(call as Call, call.query.folder, call.query.filter)),
    bind(own.deleted, async (call) => {
      const environment = environmentOf(call);
      const { trusted, userId } = authorOf(call);
      if (!trusted && userId === null) return { body: { items: [] } };
      const { limit, before } = call.query;
      const wanted = { limit, before: new Date(before ?? room.parts.now() + 1), ...(trusted ? {} : { ownerId: userId as string }) };
      const { keepDeletedDays } = await fileSettings.read(environment);
      return { body: { items: await listDeleted(environment, wanted, keepDeletedDays) } };
    }),
    bind(own.restore, async (call) => tagged(await changes.restore(placeOf(call as Call), call.params.id, call.body.path), 201), APART),
    bind(own.share, async (call) => ({ body: await room.sharing.make(environmentOf(call), authorOf(call), call.body) }), {
      ...APART,
      after: ({ id, path, until }) => ({ id, path, until }),
    }),
    bind(own.addressUpload, async (call) => ({ body: await room.addresses.make(call as Call, call.body) }), {
      ...APART,
      after: ({ path, until }) => ({ path, until }),
    }),
  ];
}

function bindFolders(room: FilesRoom, own: OfFolders): Route[] {
  const { reading, changes, contents, folders } = room;
  return [
    bind(own.listRoot, async (call) => ({ body: await reading.list(call as Call, '', call.query) })),
    bind(own.list, async (call) => ({ body: await reading.list(call as Call, call.params.path, call.query) })),
    bind(
      own.make,
      async (call) => {
        const { environment, author } = placeOf(call as Call);
        const path = folderPathOf(call.params.path);
        const area = await folders.areaOf(environment, path);
        await room.parts.catalogue.files(environment);
        await room.access.demandBefore(environment, author, 'create', {
          path,
          folder: path,
          name: '',
          rulesFrom: area,
          ownerId: author.userId,
        });
        const made = await ensureFolder(environment.db, environment, path, author.by, new Date(room.parts.now()));
        const name = path.slice(path.lastIndexOf('/') + 1);
        return { body: { path, name, public: await folders.isPublic(environment, path) }, status: made ? 201 : 200 };
      },
      APART,
    ),
    bind(
      own.move,
      async (call) => ({
        body: await changes.moveFolder(placeOf(call as Call), folderPathOf(call.params.path), folderPathOf(call.body.path, 'body.path')),
      }),
      APART,
    ),
    bind(
      own.remove,
      async (call) => {
        await changes.removeFolder(placeOf(call as Call), folderPathOf(call.params.path), call.query.files);
        return { body: undefined };
      },
      APART,
    ),
    bind(own.archive, (call) => answerArchive(call as Call, reading, contents, call.params.path, call.query.filter)),
  ];
}

/** Addresses that need no key: the path names the environment, to which what is recorded belongs. */
function bindOpen(room: FilesRoom, own: Own): Route[] {
  const { reading, contents, sharing, addresses } = room;
  const placed = async (call: Call<Own['shared']> | Call<Own['publicFile']>): Promise<Environment> => {
    call.environment = await room.parts.directory.here(call.params.app, call.params.environment);
    return call.environment;
  };
  const answered = async (call: Call, environment: Environment, content: Content | 'streaming') =>
    content === 'streaming' ? content : answerContent(call, contents, environment, content);
  return [
    bind(own.publicFile, async (call) => {
      const environment = await placed(call);
      const row = await reading.open(environment, call.params.path);
      // Pages of any origin may use what is public.
      call.response.setHeader('Access-Control-Allow-Origin', '*');
      return answerContent(
        call as Call,
        contents,
        environment,
        await reading.content(environment, row, call.query, call.headers.accept, 'public'),
      );
    }),
    bind(own.shared, async (call) => {
      const environment = await placed(call);
      return answered(call as Call, environment, await sharing.open(call as Call, environment, call.params.secret));
    }),
    bind(own.sharedByPassword, async (call) => {
      const environment = await placed(call as never);
      return answered(call as Call, environment, await sharing.unlock(call as Call, environment, call.params.secret));
    }),
    bind(own.addressed, async (call) =>
      tagged(await addresses.take(call as Call, await placed(call as never), call.params.secret, ({ request }) => request), 201),
    ),
    bind(own.addressedForm, async (call) =>
      tagged(await addresses.take(call as Call, await placed(call as never), call.params.secret, fileOfForm), 201),
    ),
  ];
}

function bindManaging(room: FilesRoom): Route[] {
  const own = operations.managedFiles;
  const { folders, sharing } = room;
  return [
    bind(own.links, async (call) => ({ body: { items: await sharing.list(environmentOf(call)) } })),
    bind(own.endLink, async (call) => {
      await sharing.end(environmentOf(call), call.params.id);
      return { body: undefined };
    }),
    bind(own.folderSettings, async (call) => {
      const environment = environmentOf(call);
      const { path } = call.query;
      return {
        body: {
          items:
            path === undefined
              ? await folders.settings(environment)
              : [await folders.settingsOf(environment, folderPathOf(path, 'query.path'))],
        },
      };
    }),
    bind(
      own.changeFolderSettings,
      async (call) => ({
        body: await folders.change(environmentOf(call), folderPathOf(call.query.path, 'query.path'), call.body as never, authorOf(call).by),
      }),
      {
        as: 'apart',
        subject: (call) => call.query.path || 'root',
        read: (call) => folders.settingsOf(environmentOf(call), folderPathOf(call.query.path)),
      },
    ),
    bind(own.tryRule, async (call) => ({ body: (await tryFolderRule(room, environmentOf(call), call.body)) as never })),
    bind(own.properties, async (call) => ({ body: { items: (await propertiesOf(room, environmentOf(call))) as never } })),
    bind(own.addProperty, async (call) => ({ body: (await addProperty(room, environmentOf(call), call.body as never)) as never }), {
      as: 'apart',
      subject: (call) => (call.body as { name: string }).name,
    }),
    bind(own.settings, async (call) => ({ body: await fileSettings.read(environmentOf(call)) })),
    bind(
      own.changeSettings,
      async (call) => {
        const environment = environmentOf(call);
        fileSettings.forget(environment);
        const settings = { ...(await fileSettings.read(environment)), ...call.body };
        await fileSettings.write(environment, settings as never, new Date(room.parts.now()));
        return { body: settings as never };
      },
      { read: (call) => fileSettings.read(environmentOf(call)) },
    ),
    bind(own.use, async (call) => {
      const environment = environmentOf(call);
      const shape = await room.parts.catalogue.files(environment);
      return { body: { ...(await readUse(environment, shape)), damaged: await damagedFiles(environment, shape) } };
    }),
  ];
}
