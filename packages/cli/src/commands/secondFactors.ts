/** Your own second factors. Passkeys are created in the console. */
import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { ask } from '../asking.js';
import { globalsOf, signedIn } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { note, printItem } from '../output.js';
import { print } from '../surroundings.js';

export function addSecondFactorCommands(program: Command): void {
  const noun = program.command('second-factor').description('your second factors and recovery codes');
  addList(program, operations.secondFactors.list, ['kind', 'name', 'createdAt', 'lastUsedAt', 'id'], {
    hint: ({ items, recoveryCodes, demandedBy }) =>
      [
        items.length > 0 ? `${recoveryCodes} recovery codes are left.` : 'You have no second factor.',
        ...(items.length === 0 && demandedBy.length > 0
          ? [`${demandedBy.join(', ')} need one for your rights as maintainer or owner.`]
          : []),
      ].join(' '),
  });
  noun
    .command('add')
    .description('add an authenticator app; a passkey is added in the console, under Account')
    .option('--name <name>', 'what you call it', 'Authenticator app')
    .action(async ({ name }: { name: string }, command: Command) => {
      const options = globalsOf(command);
      const { client } = signedIn(options);
      const { id, secret, uri } = await client.call(operations.secondFactors.addAuthenticator, { body: { name } });
      printItem({ secret, uri }, options);
      note('Enter the secret in your authenticator app, or open the address on the device that has it.', options);
      const code = await ask('Code it shows now: ', 'the command at a terminal');
      const added = await client.call(operations.secondFactors.confirmAuthenticator, { params: { factor: id }, body: { code } });
      note(`${added.name} is your second factor now. Your other sessions have ended where it is the first.`, options);
      printCodes(added.recoveryCodes, options);
    });
  addRemoval(program, operations.secondFactors.remove, {
    what: ({ factor }) => `Removing the second factor ${factor}`,
    back: 'You can add it again.',
    done: ({ factor }) => `Removed ${factor}.`,
  });
  addCall(program, operations.secondFactors.renewCodes, { print: ({ recoveryCodes }, options) => printCodes(recoveryCodes, options) });
}

function printCodes(codes: readonly string[] | undefined, options: ReturnType<typeof globalsOf>): void {
  if (!codes) return;
  if (options.json) return printItem({ recoveryCodes: codes }, options);
  print(codes.join('\n'));
  note('Each of these codes works once, in place of the second factor. Keep them where you find them without your phone.', options);
}
