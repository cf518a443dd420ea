/** Files as functions of the team reach them, with the rights that the function has. */
import { operations } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { Readable } from 'node:stream';
import { text as textOf } from 'node:stream/consumers';
import { z } from 'zod';
import { CallRefused } from '../functions/callRefused.js';
import { bodyOf, demand } from '../functions/demand.js';
import type { FunctionPorts } from '../functions/ports.js';
import type { Reaching } from '../functions/reaching.js';
import type { FilesRoom } from './filesRoom.js';
import { filePathOf } from './paths.js';

/** As much as a function can hold beside its own work. */
const MOST_CHARACTERS = 1_000_000;
const PATH = operations.files.get.params.shape.path;
const TEXT = z.string().max(MOST_CHARACTERS);
const DIGEST = /^[0-9a-f]{64}$/;
const LIST = z.strictObject({
  filter: z.string().max(16_000).optional(),
  sort: z.string().max(400).optional(),
  limit: z.int().min(1).max(1000).default(50),
  cursor: z.string().max(4000).optional(),
  deep: z.boolean().optional(),
});

type Work = (at: Reaching, given: unknown[]) => Promise<unknown>;

export function filesForFunctions(room: FilesRoom): FunctionPorts['files'] {
  const { reading, storing, changes, sharing, contents } = room;
  const shownOf = async ({ environment, author }: Reaching, path: string) =>
    storing.shown(environment, await room.parts.catalogue.files(environment), await reading.readable(environment, author, path), author);
  const digestOf = async ({ environment, author, joining }: Reaching, path: string): Promise<string> => {
    // Before a file is stored its content is known by the digest alone.
    if (joining && DIGEST.test(path)) return path;
    return (await reading.readable(environment, author, path)).digest;
  };
  const works: Record<string, Work> = {
    read: (at, [path]) => shownOf(at, demand(PATH, path, 'path')),
    list: ({ environment, author }, [folder, query]) =>
      reading.page(environment, author, demand(PATH, folder ?? '', 'folder'), demand(LIST, query ?? {}, 'query')),
    text: async (at, [path]) => {
      const content = await textOf(
        contents.bytes.read(at.environment.id, await digestOf(at, demand(PATH, path, 'path')), { start: 0, end: MOST_CHARACTERS }),
      );
      if (content.length > MOST_CHARACTERS)
        throw new CallRefused(`The file has more than ${MOST_CHARACTERS.toLocaleString('en')} characters.`);
      return content;
    },
    write: async ({ environment, author }, [path, content, properties]) => {
      const place = { environment, author };
      const to = filePathOf(demand(PATH, path, 'path'), 'path');
      const wish = { properties: demand(bodyOf(operations.files.change), properties ?? {}, 'properties') as JsonObject, expected: {} };
      await storing.demandBefore(place, to, wish);
      const limit = await contents.limitOf(environment);
      const arrived = await contents.bytes.take(environment.id, Readable.from([Buffer.from(demand(TEXT, content, 'text'))]), limit);
      return (await storing.store(place, to, arrived, wish)).file;
    },
    change: ({ environment, author }, [path, body]) =>
      changes.change(
        { environment, author },
        demand(PATH, path, 'path'),
        demand(bodyOf(operations.files.change), body, 'changes') as JsonObject,
        {},
      ),
    remove: async ({ environment, author }, [path]) => {
      await changes.remove({ environment, author }, demand(PATH, path, 'path'), {});
    },
    share: ({ environment, author }, [path, options]) =>
      sharing.make(environment, author, demand(bodyOf(operations.files.share), { ...(options as object | null), path }, 'options')),
  };
  return async (at, work, given) => {
    const found = Object.hasOwn(works, work) ? works[work] : undefined;
    if (!found) throw new CallRefused(`There is no files.${work}.`);
    return found(at, given);
  };
}
