/** States of a list under a name, for the whole team: chosen from a menu, saved and removed. */
import { ActionIcon, Button, Group, Menu, Modal, TextInput } from '@mantine/core';
import { IconBookmark, IconTrash } from '@tabler/icons-react';
import { useState } from 'react';
import { useSearchParams } from 'react-router';
import type { Stale } from '../api.js';
import { FormOf, useOperationForm } from './operationForm.js';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type Any = import('@orchard/contract').Operation<any, any, any, any>;

type Saved = { id: string; name: string; query: string };
type Props = {
  items: readonly Saved[];
  /** Parameters of the address that are kept. */
  kept: readonly string[];
  /** Such as `view`. */
  noun: string;
  onRemove: (id: string) => void;
  /** The operation that saves, and its input for a name and the present query. */
  save: Any;
  inputOf: (name: string, query: string) => object;
  /** What shows what is saved. */
  stale: Stale;
};

export function SavedStates({ items, kept, noun, onRemove, save: operation, inputOf, stale }: Props) {
  const [search, setSearch] = useSearchParams();
  const [naming, setNaming] = useState(false);
  const query = new URLSearchParams([...search].filter(([key]) => kept.includes(key))).toString();
  const save = useOperationForm(operation, {
    initial: { name: '' },
    input: ({ name }) => inputOf(name, query) as never,
    onDone: () => setNaming(false),
    stale: [stale],
  });
  const current = items.find((one) => one.query === query);
  const title = noun.charAt(0).toUpperCase() + noun.slice(1);
  return (
    <Group gap={4}>
      <Menu position="bottom-end" withinPortal>
        <Menu.Target>
          <Button variant="default" leftSection={<IconBookmark size={16} />}>
            {current?.name ?? (noun === 'search' ? 'Searches' : `${title}s`)}
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          {items.length === 0 && <Menu.Label>Nothing saved yet</Menu.Label>}
          {items.map((one) => (
            <Menu.Item
              key={one.id}
              component="div"
              onClick={() => setSearch(new URLSearchParams(one.query))}
              rightSection={
                <ActionIcon
                  size="xs"
                  variant="subtle"
                  color="gray"
                  aria-label={`Delete the ${noun} ${one.name}`}
                  onClick={(event) => {
                    event.stopPropagation();
                    onRemove(one.id);
                  }}
                >
                  <IconTrash size={13} />
                </ActionIcon>
              }
            >
              {one.name}
            </Menu.Item>
          ))}
          {query !== '' && <Menu.Item onClick={() => setNaming(true)}>Save this {noun} …</Menu.Item>}
        </Menu.Dropdown>
      </Menu>
      <Modal opened={naming} onClose={() => setNaming(false)} title={`Save this ${noun} for the team`}>
        <FormOf of={save} verb="Save" row>
          <TextInput data-autofocus label={`Name of the ${noun}`} required {...save.form.getInputProps('name')} />
        </FormOf>
      </Modal>
    </Group>
  );
}
