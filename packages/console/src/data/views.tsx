/** Saved views: filter, sort and page of a collection under a name, for the whole team. */
import { ActionIcon, Button, Group, Menu, Modal, TextInput } from '@mantine/core';
import { operations } from '@orchard/contract';
import { IconBookmark, IconTrash } from '@tabler/icons-react';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';

const KEPT = ['filter', 'sort', 'tab'];

export function SavedViews({ at }: { at: { app: string; environment: string; collection: string } }) {
  const views = useCall(operations.collections.views, { params: at });
  const save = useChange(operations.collections.saveView, ['collections.views']);
  const remove = useChange(operations.collections.removeView, ['collections.views']);
  const [search, setSearch] = useSearchParams();
  const [naming, setNaming] = useState(false);
  const [name, setName] = useState('');
  const items = views.data?.items ?? [];
  const query = new URLSearchParams([...search].filter(([key]) => KEPT.includes(key))).toString();
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
          {items.length === 0 && <Menu.Label>None is saved yet</Menu.Label>}
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
                  aria-label={`Forget the view ${view.name}`}
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
        <form
          onSubmit={(event) => {
            event.preventDefault();
            save.mutate({ params: at, body: { name, query } }, { onSuccess: () => setNaming(false) });
          }}
        >
          <Group align="flex-end" gap="xs">
            <TextInput
              data-autofocus
              label="Name of the view"
              required
              value={name}
              onChange={({ currentTarget }) => setName(currentTarget.value)}
            />
            <Button type="submit" loading={save.isPending}>
              Save
            </Button>
          </Group>
          <Trouble error={save.error} />
        </form>
      </Modal>
    </Group>
  );
}
