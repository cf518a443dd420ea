/** Where an outside table stands, what stands for what, and what it cannot do. */
import { Anchor, Button, Group, Stack, Text, Title } from '@mantine/core';
import { type Collection, operations, type OutsideFacts } from '@orchard/contract';
import { Link, useNavigate } from 'react-router';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Readiness } from '../pages/gateways.js';
import { Facts, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { TableHead } from '../parts/tableHead.js';

export function OutsideTab({ collection, outside }: { collection: Collection; outside: OutsideFacts }) {
  const { params, base } = useEnvironment();
  const navigate = useNavigate();
  const at = { params: { ...params, collection: collection.name } };
  const check = useChange(operations.outside.checkTable, [operations.collections]);
  const remove = useChange(operations.outside.removeTable, [operations.collections]);
  const columnOf = new Map(outside.columns.map(({ field, column }) => [field, column]));
  return (
    <Stack gap="lg" maw={860}>
      <Readiness items={outside.readiness} />
      <Facts
        of={[
          [
            'Table',
            <span key="t">
              <span className="mono">{outside.table}</span> on{' '}
              <Anchor component={Link} to={`${base}/outside?open=${outside.server}`}>
                {outside.server}
              </Anchor>
            </span>,
          ],
          [
            'id',
            <span key="k" className="mono">
              {outside.key}
            </span>,
          ],
          [
            'version',
            outside.version ? (
              <span key="v" className="mono">
                {outside.version}
              </span>
            ) : (
              'a hash of the row'
            ),
          ],
          ['ownerId', outside.owner ?? 'nobody'],
          ['Tells of changes', outside.changes ?? 'nothing: it is not followed live'],
          ['Written from here', outside.writable ? 'by whom the rules allow' : 'by nobody'],
          ['Looked at', <Moment key="m" at={outside.checkedAt} />],
        ]}
      />
      <section>
        <Title order={2}>Fields</Title>
        <div className="listing">
          <table>
            <TableHead columns={['Field', 'Type', 'Column', 'Index']} />
            <tbody>
              {collection.fields.map(({ name, type }) => (
                <tr key={name}>
                  <td className="mono">{name}</td>
                  <td>{type}</td>
                  <td className="mono">{columnOf.get(name)}</td>
                  <td>{outside.indexed.includes(name) ? 'yes' : 'no'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </section>
      <section>
        <Title order={2}>What it cannot do</Title>
        <ul>
          {outside.cannot.map((text) => (
            <li key={text}>
              <Text size="sm">{text}</Text>
            </li>
          ))}
        </ul>
      </section>
      <Trouble error={check.error ?? remove.error} />
      <Group>
        <Button loading={check.isPending} onClick={() => check.mutate(at)}>
          Check now
        </Button>
        <ConfirmedButton
          label="Show no more"
          verb="Show no more"
          question={`Show ${collection.name} no more?`}
          consequence="Apps no longer reach it. The table itself stays as it is."
          change={remove}
          onConfirm={() => remove.mutate(at, { onSuccess: () => void navigate(`${base}/data`) })}
        />
      </Group>
    </Stack>
  );
}
