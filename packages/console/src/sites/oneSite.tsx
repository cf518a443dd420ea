/** One site: its versions, what happens on its pages, and its settings. */
import { Anchor, Button, FileButton, Group, Stack, Tabs, Text, TextInput, Title } from '@mantine/core';
import { operations, type SiteDocument, type SiteVersionDocument } from '@orchard/contract';
import { useState } from 'react';
import { api, describeError, OFTEN, refreshCalls, useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Loaded, Moment, Trouble } from '../parts/basics.js';
import { bytes, count, counted } from '../parts/format.js';
import { EditFile } from './editFile.js';
import { Loads, Reports } from './happenings.js';
import { SiteSettings } from './settings.js';

const own = operations.sites;
const TABS = { versions: 'Versions', loads: 'Page loads', reports: 'Refused by browsers', edit: 'Edit', settings: 'Settings' } as const;

export function OneSite({ name, onGone }: { name: string; onGone: () => void }) {
  const { params } = useEnvironment();
  const answer = useCall(own.read, { params: { ...params, site: name } }, OFTEN);
  const [tab, setTab] = useAddressState('tab', 'versions');
  return (
    <Loaded of={answer}>
      {(site) => (
        <Stack gap="md">
          <div>
            <Title order={2}>{name}</Title>
            <Anchor href={site.address} target="_blank" rel="noopener" className="mono" size="sm">
              {site.address}
            </Anchor>
          </div>
          <Tabs value={tab} onChange={setTab} keepMounted={false}>
            <Tabs.List mb="sm">
              {Object.entries(TABS).map(([value, label]) => (
                <Tabs.Tab key={value} value={value}>
                  {label}
                </Tabs.Tab>
              ))}
            </Tabs.List>
            <Tabs.Panel value="versions">
              <Versions site={site} />
            </Tabs.Panel>
            <Tabs.Panel value="loads">
              <Loads name={name} />
            </Tabs.Panel>
            <Tabs.Panel value="reports">
              <Reports name={name} />
            </Tabs.Panel>
            <Tabs.Panel value="edit">
              <EditFile site={site} />
            </Tabs.Panel>
            <Tabs.Panel value="settings">
              <SiteSettings key={site.changedAt} site={site} onGone={onGone} />
            </Tabs.Panel>
          </Tabs>
        </Stack>
      )}
    </Loaded>
  );
}

function Versions({ site }: { site: SiteDocument }) {
  const { params } = useEnvironment();
  const at = { ...params, site: site.name };
  const versions = useCall(own.versions, { params: at }, OFTEN);
  const use = useChange(own.use);
  const [shown, setShown] = useState<number | null>(null);
  return (
    <Stack gap="sm">
      <PushZip site={site} />
      <Trouble error={use.error} />
      <Loaded of={versions}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty title="No version yet">
              <Text>Push a ZIP here, or a folder with `orchard site push {site.name} dist/`.</Text>
            </Empty>
          ) : (
            <section className="listing" aria-label="Versions">
              <table>
                <thead>
                  <tr>
                    <th scope="col">Version</th>
                    <th scope="col">What is new</th>
                    <th scope="col" className="right">
                      Files
                    </th>
                    <th scope="col" className="right">
                      Size
                    </th>
                    <th scope="col">Made</th>
                    <th scope="col">By</th>
                    <th scope="col">In force</th>
                  </tr>
                </thead>
                <tbody>
                  {items.map((one) => (
                    <tr key={one.version} data-open={one.inForce || undefined}>
                      <td>
                        <button type="button" className="open" onClick={() => setShown(shown === one.version ? null : one.version)}>
                          {one.version}
                        </button>
                      </td>
                      <td>{one.note || '–'}</td>
                      <td className="right mono">{count(one.files)}</td>
                      <td className="right mono">{bytes(one.bytes)}</td>
                      <td>
                        <Moment at={one.createdAt} />
                      </td>
                      <td>{one.createdBy.name ?? one.createdBy.kind}</td>
                      <td>
                        {one.inForce ? (
                          'yes'
                        ) : (
                          <Group gap={4} wrap="nowrap">
                            <Button
                              size="compact-xs"
                              variant="default"
                              aria-label={`Use version ${one.version}`}
                              loading={use.isPending && use.variables?.params.version === one.version}
                              onClick={() => use.mutate({ params: { ...at, version: one.version } })}
                            >
                              Use
                            </Button>
                            <Anchor
                              size="xs"
                              href={one.address}
                              target="_blank"
                              rel="noopener"
                              aria-label={`Preview version ${one.version}`}
                            >
                              Preview
                            </Anchor>
                          </Group>
                        )}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </section>
          )
        }
      </Loaded>
      {shown !== null && <Difference site={site.name} version={shown} />}
    </Stack>
  );
}

const SIGNS = { added: '+', changed: '~', removed: '−' } as const;

function Difference({ site, version }: { site: string; version: number }) {
  const { params } = useEnvironment();
  const answer = useCall(own.version, { params: { ...params, site, version }, query: {} });
  return (
    <section className="panel" aria-label={`Files of version ${version}`}>
      <Loaded of={answer}>
        {({ changes, items }) => (
          <>
            <Title order={3} mb="xs">
              {changes.length === 0
                ? 'The same files as the version before'
                : `${counted(changes.length, 'file')} other than in the version before`}
            </Title>
            <ul className="plain mono">
              {changes.slice(0, 100).map(({ path, change, before, after }) => (
                <li key={path}>
                  {SIGNS[change]} {path}{' '}
                  <Text span size="xs" c="dimmed">
                    {change}, {before !== null && after !== null ? `${bytes(before)} → ${bytes(after)}` : bytes(after ?? before ?? 0)}
                  </Text>
                </li>
              ))}
            </ul>
            <Text size="xs" c="dimmed" mt="xs">
              {counted(items.length, 'file')} in all, {bytes(items.reduce((sum, { size }) => sum + size, 0))}; as they are sent{' '}
              {bytes(items.reduce((sum, { size, packed }) => sum + (packed ?? size), 0))}
            </Text>
          </>
        )}
      </Loaded>
    </section>
  );
}

function PushZip({ site: { name } }: { site: SiteDocument }) {
  const { params } = useEnvironment();
  const [note, setNote] = useState('');
  const [state, setState] = useState<{ going: boolean; trouble: string | null; made: SiteVersionDocument | null }>({
    going: false,
    trouble: null,
    made: null,
  });
  const push = async (file: File | null) => {
    if (!file) return;
    setState({ going: true, trouble: null, made: null });
    try {
      const reply = await api.open(own.push, {
        params: { ...params, site: name },
        query: note ? { note } : {},
        headers: { 'content-type': 'application/zip' },
        raw: file,
      });
      setState({ going: false, trouble: null, made: (await reply.json()) as SiteVersionDocument });
      await refreshCalls(operations.sites);
    } catch (error) {
      setState({ going: false, trouble: describeError(error), made: null });
    }
  };
  return (
    <div>
      <Group gap="xs" align="flex-end">
        <TextInput
          label="What is new"
          placeholder="New colours"
          value={note}
          onChange={({ currentTarget }) => setNote(currentTarget.value)}
          w={260}
        />
        <FileButton accept="application/zip,.zip" onChange={(file) => void push(file)}>
          {(props) => (
            <Button variant="default" loading={state.going} {...props}>
              Push a ZIP
            </Button>
          )}
        </FileButton>
      </Group>
      {state.trouble && (
        <Text size="sm" className="care" role="alert">
          {state.trouble}
        </Text>
      )}
      {state.made && (
        <Text size="sm" role="status">
          Version {state.made.version} is in force: {counted(state.made.files, 'file')}.
        </Text>
      )}
    </div>
  );
}
