/** Live video and audio. */
import { spawn } from 'node:child_process';
import { createReadStream, existsSync } from 'node:fs';
import { Readable } from 'node:stream';
import { operations, Problem, type ProblemDocument } from '@orchard/contract';
import type { Command } from 'commander';
import { CommandError, workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { note, printItem } from '../output.js';
import { print } from '../surroundings.js';

const own = operations.managedBroadcasts;

export function addBroadcastCommands(program: Command): void {
  const group = program.command('broadcast').description('live video and audio of devices');
  addList(program, own.list, ['id', 'name', 'state', 'kbits', 'viewers', 'runs', 'startedAt', 'recording', 'trouble']);
  addCall(program, own.read);
  addCall(program, own.viewers);
  addCall(program, own.end, { show: ({ id, name, state, recording }) => ({ id, name, state, recording }) });
  addRemoval(program, own.remove, { what: ({ id }) => `Forgetting the broadcast ${id}` });
  addCall(program, own.changeSettings);
  addWatch(group);
  addRecord(group);
}

function addWatch(group: Command): void {
  group
    .command('watch')
    .description('an address to watch a broadcast at, for any player of HLS')
    .argument('<id>')
    .option('--play', 'play it with ffplay')
    .action(async (id: string, { play }: { play?: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      const view = await client.call(own.open, { params: { ...params, id } });
      if (options.json) return printItem(view, options);
      print(view.address);
      if (play)
        spawn('ffplay', ['-loglevel', 'error', view.address], { stdio: 'inherit' }).on('error', () =>
          note('There is no ffplay on this machine.', options),
        );
    });
}

type Record = { title?: string; type: string };

function addRecord(group: Command): void {
  group
    .command('record')
    .description('broadcast a stream of MPEG-TS from a file or standard input, and keep it as a file')
    .argument('<name>', 'such as cameras/hollow-col')
    .argument('<file>', 'or - for standard input')
    .option('--title <text>')
    .option('--type <media type>', 'video/mp2t, video/mp4 or video/webm', 'video/mp2t')
    .action(async (name: string, file: string, { title = '', type }: Record, command: Command) => {
      const { options, client, params } = workspace(command);
      if (file !== '-' && !existsSync(file)) throw new CommandError(`There is no file ${file}.`, 2);
      const { id, ingest } = await client.call(own.begin, { params, body: { name, title, record: true } });
      note(`Broadcasting ${name}: orchard broadcast watch ${id}`, options);
      const source = file === '-' ? process.stdin : createReadStream(file);
      const reply = await fetch(ingest.address, {
        method: 'POST',
        headers: { 'content-type': type },
        body: Readable.toWeb(source) as never,
        duplex: 'half',
      } as RequestInit);
      if (!reply.ok) throw Problem.from((await reply.json()) as ProblemDocument);
      const ended = await client.call(own.end, { params: { ...params, id } });
      if (options.json) return printItem(ended, options);
      note(ended.recording ? `Kept as ${ended.recording}.` : `It was not kept: ${ended.trouble ?? 'nothing arrived'}`, options);
    });
}
