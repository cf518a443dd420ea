/** Functions that stand on a collection, and who else uses it. */
import { Anchor, Button, Group, Stack, Text, Title } from '@mantine/core';
import { functionWords, operations } from '@orchard/contract';
import { Link } from 'react-router';
import { OFTEN, useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { TableHead } from '../parts/tableHead.js';
import { UsesOf } from '../upstreams/uses.js';

export function HooksOn({ collection }: { collection: string }) {
  const { params, base } = useEnvironment();
  const functions = useCall(operations.functions.list, { params }, OFTEN);
  return (
    <Stack gap="lg">
      <section>
        <Group justify="space-between">
          <Title order={3}>Hooks</Title>
          <Button component={Link} size="xs" variant="default" to={`${base}/functions?add=${collection}`}>
            Add hook
          </Button>
        </Group>
        <Loaded of={functions}>
          {({ items }) => {
            const hooks = items.filter(({ on }) => on?.collection === collection);
            if (hooks.length === 0) return <Text c="dimmed">No function stands on {collection}.</Text>;
            return (
              <div className="listing">
                <table>
                  <TableHead columns={['Function', 'Stands', 'In force', { right: 'Runs, 24 h' }, { right: 'Failed' }]} />
                  <tbody>
                    {hooks.map((hook) => (
                      <tr key={hook.name}>
                        <td>
                          <Anchor component={Link} size="sm" to={`${base}/functions?open=${hook.name}`}>
                            {hook.name}
                          </Anchor>
                        </td>
                        <td className="mono">{functionWords(hook)}</td>
                        <td>{hook.version === 0 ? 'none' : `version ${hook.version}`}</td>
                        <td className="right mono">{count(hook.runs.count)}</td>
                        <td className={hook.runs.failed > 0 ? 'right mono care' : 'right mono'}>{count(hook.runs.failed)}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </div>
            );
          }}
        </Loaded>
      </section>
      <UsesOf of={`collection:${collection}`} />
    </Stack>
  );
}
