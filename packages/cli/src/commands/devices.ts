import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { workspace } from '../context.js';
import { addCall, addList, addRemoval } from '../declared.js';
import { printItem } from '../output.js';

export function addDeviceCommands(program: Command): void {
  const device = program.command('device').description('devices that registered');
  addList(program, operations.devices.list, [
    'id',
    'platform',
    'os',
    'appVersion',
    'locale',
    ['reachable', ({ reachable, reach }) => (reachable ? 'yes' : reach)],
    'lastSeenAt',
  ]);
  addList(program, operations.devices.deliveries, ['notification', 'title', 'state', 'reason', 'sentAt', 'receivedAt', 'openedAt']);
  addCall(program, operations.devices.readManaged);
  device
    .command('retire')
    .description('stop sending to it')
    .argument('<device>')
    .action(async (id: string, _own: object, command: Command) => {
      const { options, client, params } = workspace(command);
      const changed = await client.call(operations.devices.patch, { params: { ...params, device: id }, body: { retired: true } });
      printItem({ id: changed.id, reach: changed.reach }, options);
    });
  addRemoval(program, operations.devices.removeManaged, {
    what: ({ device: id }) => `Forgetting the device ${id}`,
    done: ({ device: id }) => `Forgot ${id}.`,
  });
}
