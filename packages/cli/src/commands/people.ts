import { operations } from '@orchard/contract';
import { type Command, Option } from 'commander';
import { askSecret, confirm, readLine } from '../asking.js';
import { CommandError, workplace } from '../context.js';
import { wholeNumber } from '../numbers.js';
import { moment, note, printItem, printList } from '../output.js';

export type ListOptions = { filter?: string; sort?: string; limit?: number; cursor?: string };
/** The options every list takes. */
export const listOptions = (command: Command): Command =>
  command
    .option('--filter <cql2>', 'a condition, such as "nights > 2"')
    .option('--sort <fields>', 'such as -createdAt,name')
    .addOption(new Option('--limit <n>', 'at most so many, up to 1,000').argParser(wholeNumber(1, 1000)).default(50))
    .option('--cursor <cursor>', 'the next page, as the page before said');
export const listQuery = ({ filter, sort, limit, cursor }: ListOptions) => ({
  ...(filter ? { filter } : {}),
  ...(sort ? { sort } : {}),
  limit,
  ...(cursor ? { cursor } : {}),
});

export function addUserCommands(program: Command): void {
  const user = program.command('user').description('users of the environment');
  listOptions(user.command('list').description('users')).action(async (own: ListOptions, command: Command) => {
    const { options, client, params } = workplace(command);
    const page = await client.call(operations.users.list, { params, query: listQuery(own) });
    printList(
      page.items,
      {
        id: ({ id }) => id,
        email: ({ email }) => email,
        name: ({ name }) => name,
        roles: ({ roles }) => roles.join(' '),
        disabled: ({ disabled }) => (disabled ? 'yes' : ''),
        'signed up': ({ createdAt }) => moment(createdAt),
        'last signed in': ({ lastSeenAt }) => moment(lastSeenAt),
      },
      options,
      page.next,
    );
  });
  user
    .command('show')
    .description('one user')
    .argument('<id>')
    .action(async (id: string, _own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      printItem(await client.call(operations.users.read, { params: { ...params, user: id } }), options);
    });
  user
    .command('add')
    .description('make an account')
    .requiredOption('--email <address>')
    .option('--name <name>')
    .option('--role <roles>', 'comma-separated')
    .option('--phone <number>', 'with + and calling code')
    .option('--password-stdin', 'read the password from standard input')
    .action(async (own: { email: string; name?: string; role?: string; phone?: string; passwordStdin?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      const password = own.passwordStdin ? await readLine() : await askSecret('First password: ');
      const body = {
        email: own.email,
        password,
        ...(own.name ? { name: own.name } : {}),
        ...(own.role ? { roles: own.role.split(',') } : {}),
        ...(own.phone ? { phone: own.phone } : {}),
      };
      printItem(await client.call(operations.users.create, { params, body }), options);
    });
  user
    .command('change')
    .description('change a user')
    .argument('<id>')
    .option('--name <name>')
    .option('--role <roles>', 'comma-separated, in place of the present ones')
    .option('--phone <number>', 'with + and calling code; not verified by this')
    .option('--disable', 'end sessions and refuse signing in')
    .option('--enable')
    .action(
      async (id: string, own: { name?: string; role?: string; phone?: string; disable?: boolean; enable?: boolean }, command: Command) => {
        const { options, client, params } = workplace(command);
        const body = {
          ...(own.name ? { name: own.name } : {}),
          ...(own.role === undefined ? {} : { roles: own.role.split(',').filter(Boolean) }),
          ...(own.phone ? { phone: own.phone } : {}),
          ...(own.disable ? { disabled: true } : own.enable ? { disabled: false } : {}),
        };
        if (Object.keys(body).length === 0)
          throw new CommandError('Nothing to change is given. Give --name, --role, --phone, --disable or --enable.', 2);
        printItem(await client.call(operations.users.patch, { params: { ...params, user: id }, body }), options);
      },
    );
  user
    .command('delete')
    .description('delete a user')
    .argument('<id>')
    .option('--yes', 'do not ask')
    .action(async (id: string, own: { yes?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      await confirm(`Deleting the user ${id}`, own.yes);
      await client.call(operations.users.remove, { params: { ...params, user: id } });
      note(`Deleted ${id}.`, options);
    });
}

export function addDeviceCommands(program: Command): void {
  const device = program.command('device').description('devices that registered');
  listOptions(device.command('list').description('devices, the latest seen first')).action(async (own: ListOptions, command: Command) => {
    const { options, client, params } = workplace(command);
    const page = await client.call(operations.devices.list, { params, query: listQuery(own) });
    printList(
      page.items,
      {
        id: ({ id }) => id,
        platform: ({ platform }) => platform,
        os: ({ os }) => os,
        app: ({ appVersion }) => appVersion,
        locale: ({ locale }) => locale,
        reachable: ({ reachable, reach }) => (reachable ? 'yes' : reach),
        seen: ({ lastSeenAt }) => moment(lastSeenAt),
      },
      options,
      page.next,
    );
  });
  listOptions(device.command('sent').description('everything a device was sent, the latest first').argument('<id>')).action(
    async (id: string, own: ListOptions, command: Command) => {
      const { options, client, params } = workplace(command);
      const page = await client.call(operations.devices.deliveries, { params: { ...params, device: id }, query: listQuery(own) });
      printList(
        page.items,
        {
          notification: ({ notification }) => notification,
          title: ({ title }) => title,
          state: ({ state }) => state,
          why: ({ reason }) => reason,
          sent: ({ sentAt }) => moment(sentAt),
          received: ({ receivedAt }) => moment(receivedAt),
          opened: ({ openedAt }) => moment(openedAt),
        },
        options,
        page.next,
      );
    },
  );
  device
    .command('show')
    .description('one device')
    .argument('<id>')
    .action(async (id: string, _own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      printItem(await client.call(operations.devices.readManaged, { params: { ...params, device: id } }), options);
    });
  device
    .command('retire')
    .description('send nothing to it any more')
    .argument('<id>')
    .action(async (id: string, _own: object, command: Command) => {
      const { options, client, params } = workplace(command);
      const changed = await client.call(operations.devices.patch, {
        params: { ...params, device: id },
        body: { retired: true },
      });
      printItem({ id: changed.id, reach: changed.reach }, options);
    });
  device
    .command('delete')
    .description('forget a device')
    .argument('<id>')
    .option('--yes', 'do not ask')
    .action(async (id: string, own: { yes?: boolean }, command: Command) => {
      const { options, client, params } = workplace(command);
      await confirm(`Forgetting the device ${id}`, own.yes);
      await client.call(operations.devices.removeManaged, {
        params: { ...params, device: id },
      });
      note(`Forgot ${id}.`, options);
    });
}
