/** Indexes, and advice on them from what lists have cost. */
import { Button, Checkbox, Group, MultiSelect, Stack, Text, Title } from '@mantine/core';
import { type Advice, type Collection, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { count, Loaded, milliseconds, Moment, Trouble } from '../parts/basics.js';
import { usePlace } from '../place.js';

export function Indexes({ collection }: { collection: Collection }) {
  const { params } = usePlace();
  const at = { ...params, collection: collection.name };
  const advice = useCall(operations.collections.advice, { params: at });
  const add = useChange(operations.collections.addIndex, ['collections.']);
  const remove = useChange(operations.collections.removeIndex, ['collections.']);
  const [fields, setFields] = useState<string[]>([]);
  const [unique, setUnique] = useState(false);
  const make = (chosen: string[], one = false) =>
    add.mutate({ params: at, body: { fields: chosen, unique: one } }, { onSuccess: () => setFields([]) });
  return (
    <Stack gap="lg">
      <section>
        <Title order={2}>What lists have cost</Title>
        <Loaded of={advice}>
          {({ items }) =>
            items.length === 0 ? (
              <Text c="dimmed">No list of this collection was asked for yet.</Text>
            ) : (
              <div className="listing">
                <table>
                  <thead>
                    <tr>
                      <th scope="col">Lists by</th>
                      <th scope="col" className="right">
                        Calls
                      </th>
                      <th scope="col" className="right">
                        Mean
                      </th>
                      <th scope="col" className="right">
                        Worst
                      </th>
                      <th scope="col">Last</th>
                      <th scope="col">Advice</th>
                    </tr>
                  </thead>
                  <tbody>
                    {items.map((item) => (
                      <tr key={item.form + item.example}>
                        <td className="mono" title={item.example}>
                          {item.form}
                        </td>
                        <td className="right mono">{count(item.calls)}</td>
                        <td className="right mono">{item.calls > 0 ? milliseconds(item.meanMs) : '–'}</td>
                        <td className="right mono">{item.calls > 0 ? milliseconds(item.worstMs) : '–'}</td>
                        <td>
                          <Moment at={item.lastAt} />
                        </td>
                        <td className="whole">
                          <Counsel item={item} busy={add.isPending} onMake={(chosen) => make(chosen)} />
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </div>
            )
          }
        </Loaded>
      </section>
      <section>
        <Title order={2}>Indexes</Title>
        <div className="listing">
          <table>
            <thead>
              <tr>
                <th scope="col">Index</th>
                <th scope="col">Fields</th>
                <th scope="col">Kind</th>
                <th scope="col">
                  <span className="visually-hidden">Drop</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {collection.indexes.map(({ name, fields: over, kind }) => (
                <tr key={name}>
                  <td className="mono">{name}</td>
                  <td className="mono">{over.join(', ')}</td>
                  <td>{name.startsWith('_') ? `${kind}, of a constraint` : kind}</td>
                  <td className="right">
                    {!name.startsWith('_') && (
                      <Button
                        size="compact-xs"
                        variant="subtle"
                        c="var(--care)"
                        aria-label={`Drop the index ${name}`}
                        onClick={() => remove.mutate({ params: { ...at, index: name } })}
                      >
                        Drop
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <Group align="flex-end" mt="sm">
          <MultiSelect
            label="New index over"
            description="In the order in which they are compared"
            value={fields}
            onChange={setFields}
            data={[
              ...collection.fields.filter(({ type }) => type !== 'list' && type !== 'object').map(({ name }) => name),
              'createdAt',
              'updatedAt',
            ]}
            w={360}
            maxValues={5}
          />
          <Checkbox
            label="No two records alike"
            checked={unique}
            onChange={({ currentTarget }) => setUnique(currentTarget.checked)}
            mb={8}
          />
          <Button variant="default" disabled={fields.length === 0} loading={add.isPending} onClick={() => make(fields, unique)}>
            Make it
          </Button>
        </Group>
        <Trouble error={add.error ?? remove.error} />
      </section>
    </Stack>
  );
}

function Counsel({
  item: { propose, servedBy, before, meanMs, calls },
  busy,
  onMake,
}: {
  item: Advice;
  busy: boolean;
  onMake: (fields: string[]) => void;
}) {
  if (propose)
    return (
      <Button size="compact-xs" variant="light" loading={busy} onClick={() => onMake(propose.fields)}>
        Make an index over {propose.fields.join(', ')}
      </Button>
    );
  if (!servedBy) return <Text size="sm">None: an index would gain little.</Text>;
  return (
    <Text size="sm">
      Served by <span className="mono">{servedBy}</span>
      {before && calls > 0 && `: ${milliseconds(before.meanMs)} before, ${milliseconds(meanMs)} since`}
      {before && calls === 0 && `: ${milliseconds(before.meanMs)} before, not asked since`}
    </Text>
  );
}
