/** STUN and TURN servers of calls between people. */
import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { passwordOf } from '../asking.js';
import { workspace } from '../context.js';
import { addCall, addList } from '../declared.js';
import { note } from '../output.js';

const own = operations.turn;

export function addTurnCommands(program: Command): void {
  const group = program.command('turn').description('servers of calls between people');
  addCall(program, own.settings);
  addCall(program, own.change, { options: { secret: false } });
  addList(program, own.trial, ['address', 'works', 'durationMs', 'detail']);
  group
    .command('secret')
    .description('store the secret that the TURN servers have; it is asked for')
    .option('--value-stdin', 'read the secret from standard input')
    .option('--forget', 'forget the one that is stored: apps get no credentials any more')
    .action(async ({ valueStdin, forget = false }: { valueStdin?: boolean; forget?: boolean }, command: Command) => {
      const { options, client, params } = workspace(command);
      const secret = forget ? null : await passwordOf('Secret: ', valueStdin);
      await client.call(own.change, { params, body: { secret } });
      const said = 'Stored the secret. `orchard turn try` shows whether the servers accept it.';
      note(forget ? 'Forgot the secret.' : said, options);
    });
}
