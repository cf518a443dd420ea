import { operations, ROLES, type Role } from '@orchard/contract';
import { type Command, Option } from 'commander';
import { askSecret, confirm, readLine } from '../asking.js';
import { CommandError, globalsOf, signedIn } from '../context.js';
import { note, printItem, printList } from '../output.js';

const NO_ROLE = 'none';

export function addMemberCommands(program: Command): void {
  const member = program.command('member').description('the people who run this installation');
  member
    .command('list')
    .description('members')
    .action(async (_own: object, command: Command) => {
      const options = globalsOf(command);
      const { items } = await signedIn(options).client.call(operations.members.list, {});
      printList(
        items,
        { name: ({ name }) => name, email: ({ email }) => email, owner: ({ owner }) => (owner ? 'yes' : ''), id: ({ id }) => id },
        options,
      );
    });
  member
    .command('add')
    .description('add a member with a role in every environment of an app')
    .requiredOption('--email <address>')
    .requiredOption('--name <name>')
    .addOption(new Option('--role <role>').choices(ROLES).makeOptionMandatory())
    .option('--password-stdin', 'read the first password from standard input')
    .action(async (own: { email: string; name: string; role: Role; passwordStdin?: boolean }, command: Command) => {
      const options = globalsOf(command);
      const app = demandApp(options.app);
      const password = own.passwordStdin ? await readLine() : await askSecret('First password: ');
      const { email, name, role } = own;
      printItem(await signedIn(options).client.call(operations.members.add, { body: { email, name, role, app, password } }), options);
    });
  member
    .command('change')
    .description("change a member's name, or with --app their role in its environments")
    .argument('<id>')
    .option('--name <name>')
    .addOption(new Option('--role <role>').choices([...ROLES, NO_ROLE]))
    .action(async (id: string, own: { name?: string; role?: Role | typeof NO_ROLE }, command: Command) => {
      const options = globalsOf(command);
      if (!own.name && !own.role) throw new CommandError('Nothing to change is given. Give --name, or --app and --role.', 2);
      const role = own.role ? { app: demandApp(options.app), role: own.role === NO_ROLE ? null : own.role } : {};
      const body = { ...(own.name ? { name: own.name } : {}), ...role };
      printItem(await signedIn(options).client.call(operations.members.patch, { params: { member: id }, body }), options);
    });
  member
    .command('remove')
    .description('remove a member: their sessions and streams end at once')
    .argument('<id>')
    .option('--yes', 'do not ask')
    .action(async (id: string, own: { yes?: boolean }, command: Command) => {
      await confirm(`Removing the member ${id}`, own.yes);
      await signedIn(globalsOf(command)).client.call(operations.members.remove, { params: { member: id } });
      note(`Removed ${id}.`, globalsOf(command));
    });
  member
    .command('password-link')
    .description('a one-time address at which a member sets a new password, to hand on')
    .argument('<id>')
    .action(async (id: string, _own: object, command: Command) => {
      const options = globalsOf(command);
      printItem(await signedIn(options).client.call(operations.members.makePasswordLink, { params: { member: id } }), options);
    });
}

function demandApp(app: string | undefined): string {
  if (app) return app;
  throw new CommandError('A role is given in an app. Give --app.', 2);
}
