/** Collections: what is stored, and who may do what. */
import { Anchor, Button, Group, Modal, Stack, Text, TextInput } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { operations } from '@orchard/contract';
import { presetOf } from '@orchard/core';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Code, count, Empty, Loaded, PageHead, Trouble } from '../parts/basics.js';
import { FromCode } from '../parts/fromCode.js';
import { usePlace } from '../place.js';

const WORDS = { everyone: 'everyone', 'signed-in': 'every signed-in user', owner: 'the owner of the record', nobody: 'nobody' } as const;
export function ruleWords(rule: string): string {
  const preset = presetOf(rule);
  return preset ? WORDS[preset] : rule;
}

export function bytes(size: number): string {
  if (size < 1e3) return `${size} bytes`;
  return size < 1e6
    ? `${Math.round(size / 1e3).toLocaleString('en-GB')} kB`
    : `${(size / 1e6).toLocaleString('en-GB', { maximumFractionDigits: 1 })} MB`;
}

export function CollectionsPage() {
  const { params, base, details } = usePlace();
  const collections = useCall(operations.collections.list, { params });
  const [adding, { open, close }] = useDisclosure();
  return (
    <>
      <PageHead
        title="Collections"
        hint={
          details?.mode === 'closed'
            ? 'Closed: writes may not add collections or fields'
            : 'Open: a first write makes a collection and its fields'
        }
      >
        <FromCode
          same={{
            command: `orchard collection list --app ${params.app} --env ${params.environment}`,
            method: 'GET',
            path: `/manage/v1/apps/${params.app}/environments/${params.environment}/collections`,
          }}
        />
        <Button onClick={open}>New collection</Button>
      </PageHead>
      <Loaded of={collections}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty title="Nothing is stored yet">
              <Text>A collection holds records, a record has typed fields. In an open environment the first write makes both:</Text>
              <Code>{`orchard record add huts '{"name":"Cold Tarn","bunks":24}' --app ${params.app} --env ${params.environment}`}</Code>
            </Empty>
          ) : (
            <section className="listing" aria-label="Collections">
              <table>
                <thead>
                  <tr>
                    <th scope="col">Collection</th>
                    <th scope="col" className="right">
                      Records
                    </th>
                    <th scope="col" className="right" title="More records than seven days ago">
                      In 7 days
                    </th>
                    <th scope="col" className="right">
                      Size
                    </th>
                    <th scope="col">Fields</th>
                    <th scope="col">Read by</th>
                    <th scope="col">Created by</th>
                    <th scope="col">Changed by</th>
                  </tr>
                </thead>
                <tbody>
                  {items.map((item) => (
                    <tr key={item.name}>
                      <td>
                        <Anchor component={Link} to={`${base}/data/${item.name}`}>
                          {item.name}
                        </Anchor>
                      </td>
                      <td className="right mono">{count(item.records)}</td>
                      <td className="right mono">
                        {item.grownBy === null ? '–' : item.grownBy > 0 ? `+${count(item.grownBy)}` : count(item.grownBy)}
                      </td>
                      <td className="right mono">{bytes(item.bytes)}</td>
                      <td title={item.fields.map(({ name, type }) => `${name}: ${type}`).join('\n')}>
                        {item.fields.map(({ name }) => name).join(', ')}
                      </td>
                      <td title={item.rules.read}>{ruleWords(item.rules.read)}</td>
                      <td title={item.rules.create}>{ruleWords(item.rules.create)}</td>
                      <td title={item.rules.update}>{ruleWords(item.rules.update)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </section>
          )
        }
      </Loaded>
      <Modal opened={adding} onClose={close} title="New collection">
        <NewCollection />
      </Modal>
    </>
  );
}

function NewCollection() {
  const { params, base } = usePlace();
  const [name, setName] = useState('');
  const navigate = useNavigate();
  const create = useChange(operations.collections.create, ['collections.']);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        create.mutate({ params, body: { name } }, { onSuccess: () => navigate(`${base}/data/${name}`) });
      }}
    >
      <Stack gap="sm">
        <TextInput
          data-autofocus
          label="Name"
          description="A lower-case letter, then letters, digits and _"
          required
          value={name}
          onChange={({ currentTarget }) => setName(currentTarget.value)}
        />
        <Text size="sm">At first only signed-in owners read and write their own records.</Text>
        <Trouble error={create.error} />
        <Group justify="flex-end">
          <Button type="submit" loading={create.isPending}>
            Make it
          </Button>
        </Group>
      </Stack>
    </form>
  );
}
