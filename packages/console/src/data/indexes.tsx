/** Indexes, and suggestions based on the cost of lists. */
import { Box, Button, Checkbox, Stack, TagsInput, Text, Title } from '@mantine/core';
import { type Advice, type Collection, operations } from '@orchard/contract';
import { useCall, useChange } from '../api.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { count, milliseconds } from '../parts/format.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { useEnvironment } from '../environment.js';
import { TableHead } from '../parts/tableHead.js';

const KIND_WORDS: Record<Collection['indexes'][number]['kind'], string> = {
  order: 'order',
  unique: 'unique',
  place: 'place',
  items: 'items of a list',
  search: 'words, for search',
};

export function Indexes({ collection }: { collection: Collection }) {
  const { params } = useEnvironment();
  const at = { ...params, collection: collection.name };
  const advice = useCall(operations.collections.advice, { params: at });
  const add = useChange(operations.collections.addIndex);
  const remove = useChange(operations.collections.removeIndex);
  return (
    <Stack gap="lg">
      <section>
        <Title order={2}>Cost of lists</Title>
        <Loaded of={advice}>
          {({ items }) =>
            items.length === 0 ? (
              <Text c="dimmed">No list of this collection has been requested yet.</Text>
            ) : (
              <div className="listing">
                <table>
                  <TableHead columns={['Lists by', { right: 'Calls' }, { right: 'Mean' }, { right: 'Worst' }, 'Last', 'Advice']} />
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
                          <Counsel
                            item={item}
                            busy={add.isPending}
                            onMake={(fields) => add.mutate({ params: at, body: { fields, unique: false } })}
                          />
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
            <TableHead columns={['Index', 'Fields', 'Kind', { hidden: 'Drop' }]} />
            <tbody>
              {collection.indexes.map(({ name, fields: over, kind }) => (
                <tr key={name}>
                  <td className="mono">{name}</td>
                  <td className="mono">{over.join(', ')}</td>
                  <td>{name.startsWith('_') ? `${KIND_WORDS[kind]}, of a constraint` : KIND_WORDS[kind]}</td>
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
        <NewIndex collection={collection} />
        <Trouble error={add.error ?? remove.error} />
      </section>
    </Stack>
  );
}

function NewIndex({ collection }: { collection: Collection }) {
  const { params } = useEnvironment();
  const add = useOperationForm(operations.collections.addIndex, {
    initial: { fields: [] as string[], unique: false, search: false },
    input: (body) => ({ params: { ...params, collection: collection.name }, body }),
    onDone: () => add.form.reset(),
  });
  const { getInputProps, values } = add.form;
  return (
    <Box mt="sm">
      <FormOf of={add} verb="Add index" row disabled={values.fields.length === 0}>
        <TagsInput
          label="New index over"
          description="In order of comparison; inside an object meta.service, meta.seats:number, meta.open:boolean"
          data={[...collection.fields.filter(({ type }) => type !== 'object').map(({ name }) => name), 'createdAt', 'updatedAt']}
          w={420}
          maxTags={5}
          acceptValueOnBlur
          {...getInputProps('fields')}
        />
        <Checkbox label="Unique" mb={8} {...getInputProps('unique', { type: 'checkbox' })} />
        <Checkbox label="For search" mb={8} {...getInputProps('search', { type: 'checkbox' })} />
      </FormOf>
    </Box>
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
        Add an index over {propose.fields.join(', ')}
      </Button>
    );
  if (!servedBy) return <Text size="sm">None: an index would gain little.</Text>;
  return (
    <Text size="sm">
      Served by <span className="mono">{servedBy}</span>
      {before && calls > 0 && `: ${milliseconds(before.meanMs)} before, ${milliseconds(meanMs)} since`}
      {before && calls === 0 && `: ${milliseconds(before.meanMs)} before, not requested since`}
    </Text>
  );
}
