/** Sites: small web fronts at addresses of their own. */
import { Anchor, Button, Drawer, Group, NativeSelect, Stack, Text, TextInput } from '@mantine/core';
import { operations } from '@orchard/contract';
import { OFTEN, useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Code, Empty, Moment } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { OneSite } from '../sites/oneSite.js';

const own = operations.sites;

export function SitesPage() {
  const { params } = useEnvironment();
  const [adding, setAdding] = useAddressState('add');
  const [, setOpen] = useAddressState('open');
  return (
    <>
      <ListPage
        title="Sites"
        hint="Small web fronts, each at a host name of its own, apart from console and API"
        operation={own.list}
        {...OFTEN}
        label="Sites"
        idOf={({ name }) => name}
        empty={
          <Empty title="No site yet">
            <Text>A folder or a ZIP becomes a version, which is in force at once. Its address may call the API for its client.</Text>
            <Code>{`orchard site push warden dist/ --app ${params.app} --env ${params.environment}`}</Code>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Site', render: ({ name }) => name },
          {
            name: 'address',
            label: 'Address',
            render: ({ address, version }) =>
              version > 0 ? (
                <Anchor href={address} target="_blank" rel="noopener" className="mono">
                  {address}
                </Anchor>
              ) : (
                <span className="mono">{address}</span>
              ),
          },
          { name: 'client', label: 'Client', render: ({ client }) => client },
          { name: 'version', label: 'Version', right: true, render: ({ version }) => <span className="mono">{version || '–'}</span> },
          { name: 'loads', label: 'Loads, 24 h', right: true, render: ({ loads }) => <span className="mono">{count(loads)}</span> },
          {
            name: 'failed',
            label: 'Not found',
            right: true,
            render: ({ failed }) => <span className={failed > 0 ? 'mono care' : 'mono'}>{count(failed)}</span>,
          },
          {
            name: 'reports',
            label: 'Refused by browsers',
            right: true,
            render: ({ reports }) => <span className={reports > 0 ? 'mono care' : 'mono'}>{count(reports)}</span>,
          },
          { name: 'changedAt', label: 'Changed', render: ({ changedAt }) => <Moment at={changedAt} /> },
        ]}
        drawer={{ title: 'Site', size: 'xl', render: (name, close) => <OneSite key={name} name={name} onGone={close} /> }}
      >
        <Button onClick={() => setAdding('1')}>Add site</Button>
      </ListPage>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="lg" title="Add site">
        {adding && (
          <NewSite
            onMade={(name) => {
              setAdding(null);
              setOpen(name);
            }}
          />
        )}
      </Drawer>
    </>
  );
}

function NewSite({ onMade }: { onMade: (name: string) => void }) {
  const { params } = useEnvironment();
  const clients = useCall(operations.clients.list, { params });
  const web = (clients.data?.items ?? []).filter(({ kind }) => kind === 'web').map(({ name }) => name);
  const save = useOperationForm(own.put, {
    initial: { name: '', client: '' },
    input: ({ name, client }) => ({ params: { ...params, site: name }, body: { client: client || (web[0] ?? '') } }),
    onDone: ({ name }) => onMade(name),
  });
  return (
    <FormOf of={save} verb="Make">
      <TextInput label="Name" required placeholder="warden" {...save.form.getInputProps('name')} />
      {web.length > 0 ? (
        <NativeSelect
          label="Client"
          description="Calls from the site’s address are allowed for it"
          data={web}
          {...save.form.getInputProps('client')}
        />
      ) : (
        <Stack gap={4}>
          <Text size="sm">A site belongs to a client of kind web, and there is none yet.</Text>
          <Group>
            <Anchor href={`/${params.app}/${params.environment}/setup`} size="sm">
              Add a client
            </Anchor>
          </Group>
        </Stack>
      )}
    </FormOf>
  );
}
