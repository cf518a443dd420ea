import { MODES, operations } from '@orchard/contract';
import { Argument, type Command } from 'commander';
import { globalsOf, environmentOf, signedIn } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { printItem, printList } from '../output.js';
import { addMoveCommands } from './moves.js';

export function addAppCommands(program: Command): void {
  program.command('app').description('apps of this installation');
  addList(
    program,
    operations.apps.list,
    ['name', 'title', ['environments', ({ environments }) => environments.map(({ name }) => name).join(', ')], 'createdAt'],
    { about: 'apps and their environments' },
  );
  addCall(program, operations.apps.create, {
    about: 'create an app with the environments dev and live',
    show: ({ name, title, environments }) => ({ app: name, title, environments: environments.map((one) => one.name).join(', ') }),
  });
  addCall(program, operations.apps.patch, {
    about: 'change the title, or whether maintainers and owners need a second factor',
    options: { secondFactor: { about: 'the rights of maintainers and owners need a second factor' } },
    show: ({ name, title, secondFactor }) => ({ app: name, title, secondFactor }),
  });
  addRemoval(program, operations.apps.remove, {
    about: 'delete an app with all its data',
    what: ({ app }) => `Deleting the app ${app} with all its data`,
  });
}

export function addEnvironmentCommands(program: Command): void {
  const env = program.command('env').description('environments of an app');
  addEnvironmentList(env);
  addCall(program, operations.environments.create, {
    options: {
      mode: { about: 'whether writes may add collections and fields; closed without it' },
      server: { about: 'database server to place it on, as ORCHARD_DATABASE_SERVERS names it; without it, the main one' },
    },
  });
  addChanges(env);
  addMoveCommands(program, env);
  addRemoval(program, operations.environments.remove, {
    about: 'delete the environment with all its data',
    what: ({ app, environment }) => `Deleting the environment ${app}/${environment} with all its data`,
    done: ({ app, environment }) => `Deleted ${app}/${environment}.`,
  });
}

/** Environments are listed with their apps; this list is by environment. */
function addEnvironmentList(env: Command): void {
  env
    .command('list')
    .description('environments of the app; of all apps without --app')
    .action(async (_own: object, command: Command) => {
      const options = globalsOf(command);
      const { items } = await signedIn(options).client.call(operations.apps.list, {});
      const all = items.flatMap(({ environments }) => environments).filter(({ app }) => !options.app || app === options.app);
      printList(
        all,
        ['app', 'name', 'mode', 'role', ['server', ({ server, movedTo }) => movedTo ?? server ?? 'main'], 'createdAt'],
        options,
      );
    });
}

function addChanges(env: Command): void {
  env
    .command('mode')
    .description('open or close the environment to new collections and fields')
    .addArgument(new Argument('<mode>').choices(MODES))
    .action(async (mode: 'open' | 'closed', _own: object, command: Command) => {
      const options = globalsOf(command);
      printItem(
        await signedIn(options).client.call(operations.environments.patch, { params: environmentOf(options), body: { mode } }),
        options,
      );
    });
  env
    .command('widening')
    .description('whether, while it is open, a number with a fraction makes an integer field one of numbers')
    .addArgument(new Argument('<on|off>').choices(['on', 'off']))
    .action(async (to: string, _own: object, command: Command) => {
      const options = globalsOf(command);
      const body = { widening: to === 'on' };
      printItem(await signedIn(options).client.call(operations.environments.patch, { params: environmentOf(options), body }), options);
    });
}
