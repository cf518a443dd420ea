/** Files and folders. */
import { basename } from 'node:path';
import { counted, type FolderSettingsDocument, operations, RULE_PRESETS, type RulePreset } from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { bytesWords, download, localFiles, TransferBar, upload } from '../fileTransfer.js';
import { jsonOption } from '../jsonOption.js';
import { wholeNumber } from '../numbers.js';
import { note, printItem, printList } from '../output.js';
import { print } from '../surroundings.js';

const own = operations.managedFiles;
type Listing = { deep?: boolean; filter?: string; sort?: string; limit: number; cursor?: string; fields?: string };
type Rules = { read?: string; create?: string; update?: string; delete?: string; inherit?: boolean; public?: boolean };
const ACTIONS = ['read', 'create', 'update', 'delete'] as const;

export function addFileCommands(program: Command): void {
  const group = program.command('file').description('files and folders: what apps store besides records');
  addListing(group);
  addTransfers(group);
  addCall(program, own.describe);
  addCall(program, own.change, { about: 'change properties of a file as JSON, or move it: {"path":"…"}' });
  addRemoval(program, own.remove, {
    what: ({ path }) => `Deleting ${path}`,
    done: ({ path }) => `Deleted ${path}.`,
    back: 'It can be brought back for some days, with `orchard file restore`.',
  });
  addList(program, own.deleted, ['id', 'path', ['size', ({ size }) => bytesWords(size)], 'deletedAt', 'until']);
  addCall(program, own.restore, { show: ({ path, size, type }) => ({ path, size, type }) });
  addList(program, own.editions, ['edition', ['size', ({ size }) => bytesWords(size)], 'type', 'digest', 'at']);
  addCall(program, own.make, { show: ({ path }) => ({ path }) });
  addSharing(program, group);
  addRules(group);
  addCall(program, own.use, {
    show: ({ files, bytes, storedBytes, damaged }) => ({
      files,
      size: bytesWords(bytes),
      'on the disk': bytesWords(storedBytes),
      damaged: damaged.map(({ path }) => path),
    }),
  });
  addCall(program, own.changeSettings);
  addList(program, own.properties, ['name', 'type', 'choices', 'setBy', 'seenBy']);
  addCall(program, own.addProperty);
}

function addListing(group: Command): void {
  group
    .command('ls')
    .description('files and folders of a folder, or of the root')
    .argument('[folder]')
    .option('--deep', 'with the files of the folders below')
    .option('--filter <cql2>', 'a condition in CQL2, such as "size > 1000000"')
    .option('--sort <fields>', 'such as -size,path')
    .option('--limit <n>', 'at most this many, up to 1,000', wholeNumber(1, 1000), 50)
    .option('--cursor <text>', 'the cursor printed with the previous page')
    .action(async (folder: string | undefined, listing: Listing, command: Command) => {
      const { options, client, params } = workspace(command);
      const { deep, ...more } = listing;
      const query = { ...more, count: 'true', ...(deep ? { deep: 'true' } : {}) };
      const page = folder
        ? await client.call(own.list, { params: { ...params, path: folder.replace(/\/+$/, '') }, query })
        : await client.call(own.listRoot, { params, query });
      if (options.json) return print(JSON.stringify(page, null, 2));
      const rows = [
        ...page.folders.map(({ name, files = 0, bytes = 0, public: open }) => ({
          name: `${name}/`,
          size: bytesWords(bytes),
          type: `${counted(files, 'file')}${open ? ', public' : ''}`,
          updatedAt: '',
          owner: '',
        })),
        ...page.items.map(({ name, path, size, type, updatedAt, ownerId }) => ({
          name: deep ? path : name,
          size: bytesWords(size),
          type,
          updatedAt,
          owner: ownerId,
        })),
      ];
      printList(rows, ['name', 'size', 'type', 'updatedAt', 'owner'], options, page.next);
    });
}

function addTransfers(group: Command): void {
  group
    .command('put')
    .description('upload a file or a folder; what broke off goes on where it was')
    .argument('<local>', 'a file or folder of this machine')
    .argument('[path]', 'where it goes; one that ends in / is a folder')
    .option('--properties <json>', 'properties of each file')
    .action(async (local: string, path: string | undefined, { properties }: { properties?: string }, command: Command) => {
      const place = workspace(command);
      if (properties) jsonOption(properties, '--properties');
      const files = localFiles(local, path);
      const bar = new TransferBar(
        files.reduce((sum, { size }) => sum + size, 0),
        place.options,
      );
      let there = 0;
      try {
        for (const file of files) there += await upload(place, file, properties, bar);
      } finally {
        bar.stop();
      }
      const bytes = files.reduce((sum, { size }) => sum + size, 0);
      if (place.options.json) return print(JSON.stringify({ files: files.map(({ to }) => to), bytes }, null, 2));
      const went = there > 0 ? `; ${bytesWords(there)} of it were there from before` : '';
      note(
        files.length === 1
          ? `Stored ${files[0]?.to}, ${bytesWords(bytes)}${went}.`
          : `Stored ${files.length} files, ${bytesWords(bytes)}${went}.`,
        place.options,
      );
    });
  group
    .command('get')
    .description('download a file; what broke off goes on where it was')
    .argument('<path>')
    .argument('[local]', 'where it is written; its name in this folder, if left out')
    .action(async (path: string, local: string | undefined, _own: object, command: Command) => {
      const place = workspace(command);
      const to = local ?? basename(path);
      const { size, there } = await download(place, path, to);
      note(`Wrote ${to}, ${bytesWords(size)}${there > 0 ? `; ${bytesWords(there)} of it were there from before` : ''}.`, place.options);
    });
  group
    .command('mv')
    .description('move or rename a folder with all that is in it')
    .argument('<folder>')
    .argument('<path>')
    .action(async (folder: string, path: string, _own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const moved = await client.call(own.move, { params: { ...params, path: folder }, body: { path } });
      if (options.json) return printItem(moved, options);
      note(`Moved ${folder} to ${moved.path}.`, options);
    });
  group
    .command('rmdir')
    .description('delete a folder')
    .argument('<folder>')
    .option('--files', 'with the files in it, which can be brought back for some days')
    .action(async (folder: string, { files }: { files?: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      await client.call(own.removeFolder, { params: { ...params, path: folder }, query: files ? { files: 'true' } : {} });
      note(`Deleted ${folder}.`, options);
    });
}

function addSharing(program: Command, group: Command): void {
  group
    .command('share')
    .description('make an address that lets whoever has it download a file')
    .argument('<path>')
    .option('--until <time>', 'RFC 3339; 7 days from now, if left out')
    .option('--count <n>', 'the most downloads', wholeNumber(1, 1_000_000))
    .option('--password <text>', 'what it asks for')
    .action(async (path: string, body: { until?: string; count?: number; password?: string }, command: Command) => {
      const { options, client, params } = workspace(command);
      const link = await client.call(own.share, { params, body: { path, ...body } });
      if (options.json) return printItem(link, options);
      print(link.address);
      note(`It ends ${link.until ?? 'never'}${link.count ? `, and after ${link.count} downloads` : ''}. It is not shown again.`, options);
    });
  addList(program, own.links, ['id', 'path', 'until', 'count', 'used', 'password', 'createdAt']);
  addRemoval(program, own.endLink, { what: ({ id }) => `Ending the share link ${id}`, done: () => 'Ended the share link.' });
}

function addRules(group: Command): void {
  const command = group
    .command('rules')
    .description('who may read and write the files of a folder; with options, set it')
    .argument('[folder]', 'the root, if left out');
  for (const action of ACTIONS)
    command.option(`--${action} <cql2>`, `who may ${action}: a condition in CQL2, or one of ${Object.keys(RULE_PRESETS).join(', ')}`);
  command
    .option('--inherit', 'let the rules of the folder above hold')
    .option('--public', 'let everybody read, without a key')
    .option('--no-public')
    .action(async (folder: string | undefined, wanted: Rules, _command: Command) => {
      const { options, client, params } = workspace(command);
      const body = bodyOf(wanted);
      if (Object.keys(body).length > 0) await client.call(own.changeFolderSettings, { params, query: { path: folder ?? '' }, body });
      const query = folder === undefined && Object.keys(body).length === 0 ? {} : { path: folder ?? '' };
      // The root's path is empty, which a query leaves out: it is the first of all.
      const { items } = await client.call(own.folderSettings, { params, query });
      const shown = folder === undefined && Object.keys(body).length > 0 ? items.slice(0, 1) : items;
      printList<FolderSettingsDocument>(
        shown,
        [
          ['folder', ({ path }) => path || '(root)'],
          ...ACTIONS.map((action) => [action, ({ inForce }: FolderSettingsDocument) => inForce[action]] as const),
          ['rules from', ({ inForce }) => inForce.from || '(root)'],
          'public',
        ],
        options,
      );
    });
}

function bodyOf(wanted: Rules): { rules?: Record<string, string> | null; public?: boolean } {
  const rules = Object.fromEntries(
    ACTIONS.flatMap((action) =>
      wanted[action] === undefined ? [] : [[action, RULE_PRESETS[wanted[action] as RulePreset] ?? wanted[action]]],
    ),
  ) as Record<string, string>;
  const isSet = Object.keys(rules).length > 0;
  if (wanted.inherit && isSet) throw new CommandError('Give rules, or --inherit: both cannot hold.', 2);
  return {
    ...(isSet ? { rules } : wanted.inherit ? { rules: null } : {}),
    ...(wanted.public === undefined ? {} : { public: wanted.public }),
  };
}
