/** Saved views: filter, sort and page of a collection under a name, for the whole team. */
import { ActionIcon, Button, Group, Menu, Modal, TextInput } from '@mantine/core';
import { operations } from '@orchard/contract';
import { IconBookmark, IconTrash } from '@tabler/icons-react';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import { useCall, useChange } from '../api.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

const KEPT = ['filter', 'sort', 'tab'];

export function SavedViews({ at }: { at: { app: string; environment: string; collection: string } }) {
  const views = useCall(operations.collections.views, { params: at });
  const remove = useChange(operations.collections.removeView, [operations.collections.views]);
  const [search, setSearch] = useSearchParams();
  const [naming, setNaming] = useState(false);
  const items = views.data?.items ?? [];
  const query = new URLSearchParams([...search].filter(([key]) => KEPT.includes(key))).toString();
  const save = useOperationForm(operations.collections.saveView, {
    initial: { name: '' },
    input: ({ name }) => ({ params: at, body: { name, query } }),
    onDone: () => setNaming(false),
    stale: [operations.collections.views],
  });
  const current = items.find((view) => view.query === query);
  return (
    <Group gap={4}>
      <Menu position="bottom-end" withinPortal>
        <Menu.Target>
          <Button variant="default" leftSection={<IconBookmark size={16} />}>
            {current?.name ?? 'Views'}
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          {items.length === 0 && <Menu.Label>No saved views yet</Menu.Label>}
          {items.map((view) => (
            <Menu.Item
              key={view.id}
              component="div"
              onClick={() => setSearch(new URLSearchParams(view.query))}
              rightSection={
                <ActionIcon
                  size="xs"
                  variant="subtle"
                  color="gray"
                  aria-label={`Delete the view ${view.name}`}
                  onClick={(event) => {
                    event.stopPropagation();
                    remove.mutate({ params: { ...at, view: view.id } });
                  }}
                >
                  <IconTrash size={13} />
                </ActionIcon>
              }
            >
              {view.name}
            </Menu.Item>
          ))}
          {query !== '' && <Menu.Item onClick={() => setNaming(true)}>Save this view …</Menu.Item>}
        </Menu.Dropdown>
      </Menu>
      <Modal opened={naming} onClose={() => setNaming(false)} title="Save this view for the team">
        <FormOf of={save} verb="Save" row>
          <TextInput data-autofocus label="Name of the view" required {...save.form.getInputProps('name')} />
        </FormOf>
      </Modal>
    </Group>
  );
}
