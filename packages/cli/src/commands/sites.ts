/** Small web fronts of an environment. */
import { existsSync, readdirSync, readFileSync, statSync } from 'node:fs';
import { join, relative, sep } from 'node:path';
import { Readable } from 'node:stream';
import { counted, operations, Problem, type SiteVersionDocument } from '@orchard/contract';
import type { Command } from 'commander';
import yazl from 'yazl';
import { CommandError, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { bytesWords } from '../fileTransfer.js';
import { note, printItem } from '../output.js';
import { isBarShown, newBar } from '../progressBar.js';
import { print } from '../surroundings.js';

const own = operations.sites;

export function addSiteCommands(program: Command): void {
  const group = program.command('site').description('small web fronts at addresses of their own');
  addPush(group);
  addList(program, own.list, ['name', 'address', 'client', 'version', 'versions', 'loads', 'failed', 'reports']);
  addCall(program, own.read);
  addCall(program, own.put, { show: ({ name, address, client, version }) => ({ name, address, client, version }) });
  addList(program, own.versions, [
    'version',
    ['in force', ({ inForce }) => inForce],
    'files',
    ['size', ({ bytes }) => bytesWords(bytes)],
    'note',
    'createdAt',
    'address',
  ]);
  addCall(program, own.use, {
    print({ name, version, address }, options) {
      if (options.json) return printItem({ name, version, address }, options);
      note(`Version ${version} of ${name} is in force at ${address}.`, options);
    },
  });
  addList(program, own.loads, ['page', 'status', 'loads', 'lastAt']);
  addList(program, own.reports, ['directive', 'blocked', 'page', 'count', 'advice']);
  addRemoval(program, own.remove, { what: ({ site }) => `Deleting the site ${site} with its versions` });
}

type Push = { note?: string; use: boolean; client?: string };

function addPush(group: Command): void {
  group
    .command('push')
    .description('make a version of a folder or a ZIP, and switch to it; makes the site if it is missing')
    .argument('<site>')
    .argument('<path>', 'a folder such as dist/, or a .zip')
    .option('--note <text>', 'what is new')
    .option('--no-use', 'do not switch to it yet')
    .option('--client <name>', 'for a new site: the client of kind web whose site it is')
    .action(async (site: string, path: string, { note: text, use, client: owner }: Push, command: Command) => {
      const { options, client, params } = workspace(command);
      const content = archiveOf(path, isBarShown(options));
      await makeSite(site);
      const reply = await client.open(own.push, {
        params: { ...params, site },
        query: { ...(text ? { note: text } : {}), ...(use ? {} : { use: 'false' }) },
        headers: { 'content-type': 'application/zip' },
        raw: content as never,
      });
      const version = (await reply.json()) as SiteVersionDocument;
      if (options.json) return printItem(version, options);
      note(`Pushed version ${version.version} of ${site}: ${counted(version.files, 'file')}, ${bytesWords(version.bytes)}.`, options);
      print(version.inForce ? (await client.call(own.read, { params: { ...params, site } })).address : version.address);

      async function makeSite(name: string): Promise<void> {
        try {
          await client.call(own.read, { params: { ...params, site: name } });
        } catch (error) {
          if (!(error instanceof Problem) || error.problem !== 'not-found') throw error;
          await client.call(own.put, { params: { ...params, site: name }, body: owner ? { client: owner } : {} });
        }
      }
    });
}

/** A ZIP of a folder, made while it is sent; a ZIP as it is. @throws {CommandError} */
function archiveOf(path: string, isShown: boolean): unknown {
  if (!existsSync(path)) throw new CommandError(`There is no folder or ZIP ${path}.`, 2);
  if (!statSync(path).isDirectory()) return readFileSync(path);
  const names = readdirSync(path, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => join(entry.parentPath, entry.name))
    .sort();
  if (names.length === 0) throw new CommandError(`The folder ${path} holds no files.`, 2);
  const zip = new yazl.ZipFile();
  const bar = isShown ? newBar(' {bar} {value} of {total} files') : null;
  bar?.start(names.length, 0);
  for (const name of names) {
    zip.addFile(name, relative(path, name).split(sep).join('/'));
    bar?.increment();
  }
  zip.end();
  bar?.stop();
  return Readable.toWeb(zip.outputStream as unknown as Readable);
}
