/** Database servers of others: what each shows, and which of its tables are shown as collections. */
import {
  Anchor,
  Button,
  Checkbox,
  Drawer,
  Group,
  NumberInput,
  PasswordInput,
  SegmentedControl,
  Stack,
  Text,
  TextInput,
  Title,
} from '@mantine/core';
import { operations, type OutsideServer, type SeenTable } from '@orchard/contract';
import { Link } from 'react-router';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { ShowTable } from '../outside/showTable.js';
import { Empty, Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { count, inWords } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { TableHead } from '../parts/tableHead.js';
import { Verdict } from '../parts/verdict.js';

const KIND_WORDS: Record<OutsideServer['kind'], string> = { mariadb: 'MariaDB', postgresql: 'PostgreSQL' };

export function OutsidePage() {
  const [adding, setAdding] = useAddressState('add');
  const [, setOpen] = useAddressState('open');
  return (
    <>
      <ListPage
        title="Outside tables"
        hint="Tables and views of MariaDB and PostgreSQL servers, shown as collections"
        operation={operations.outside.servers}
        label="Outside servers"
        idOf={({ name }) => name}
        empty={
          <Empty title="No outside server yet">
            <Text>
              Data that lives elsewhere is shown as a collection: same calls, filters, rules and pages, and its server does the work.
            </Text>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Server', render: ({ name }) => name },
          { name: 'kind', label: 'Kind', render: ({ kind }) => KIND_WORDS[kind] },
          {
            name: 'address',
            label: 'Address',
            render: ({ host, port, database }) => <span className="mono">{`${host}:${port}/${database}`}</span>,
          },
          {
            name: 'check',
            label: 'Answers',
            render: ({ check }) => (check ? <Verdict well={check.ok} because={check.steps.find(({ ok }) => !ok)?.text} /> : 'not checked'),
          },
        ]}
        drawer={{
          title: 'Outside server',
          size: 'xl',
          render: (name, close, items) => {
            const server = items.find((one) => one.name === name);
            return server && <OneServer server={server} onGone={close} />;
          },
        }}
      >
        <Button onClick={() => setAdding('1')}>Add server</Button>
      </ListPage>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="lg" title="Add server">
        {adding && (
          <AddServer
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

function AddServer({ onMade }: { onMade: (name: string) => void }) {
  const { params } = useEnvironment();
  const check = useChange(operations.outside.checkServer);
  const add = useOperationForm(operations.outside.addServer, {
    initial: {
      name: '',
      kind: 'postgresql' as OutsideServer['kind'],
      host: '',
      port: 5432 as number | string,
      database: '',
      user: '',
      password: '',
      tls: true,
    },
    input: ({ port, ...values }) => ({ params, body: { ...values, port: Number(port) } }),
    onDone: ({ name }) => check.mutate({ params: { ...params, server: name } }, { onSettled: () => onMade(name) }),
  });
  const { getInputProps, setFieldValue, values } = add.form;
  return (
    <FormOf of={add} verb="Add and check">
      <SegmentedControl
        aria-label="Kind"
        data={Object.entries(KIND_WORDS).map(([value, label]) => ({ value, label }))}
        value={values.kind}
        onChange={(kind) => {
          setFieldValue('kind', kind as OutsideServer['kind']);
          setFieldValue('port', kind === 'mariadb' ? 3306 : 5432);
        }}
      />
      <TextInput label="Name" required placeholder="association" {...getInputProps('name')} />
      <Group grow align="flex-end">
        <TextInput label="Host" required {...getInputProps('host')} />
        <NumberInput label="Port" required min={1} max={65_535} {...getInputProps('port')} />
      </Group>
      <TextInput label="Database" required {...getInputProps('database')} />
      <Group grow>
        <TextInput label="User" description="With the rights to show, and no more" required {...getInputProps('user')} />
        <PasswordInput label="Password" description="Kept encrypted, and never shown again" {...getInputProps('password')} />
      </Group>
      <Checkbox label="Encrypt the connection (TLS)" {...getInputProps('tls', { type: 'checkbox' })} />
    </FormOf>
  );
}

function OneServer({ server, onGone }: { server: OutsideServer; onGone: () => void }) {
  const { params } = useEnvironment();
  const at = { params: { ...params, server: server.name } };
  const check = useChange(operations.outside.checkServer);
  const remove = useChange(operations.outside.removeServer);
  const latest = check.data ?? server.check;
  return (
    <Stack gap="lg">
      <Facts
        of={[
          ['Server', `${server.name}, ${KIND_WORDS[server.kind]}${server.tls ? ', encrypted' : ', not encrypted'}`],
          ['Address', `${server.host}:${server.port}/${server.database}`],
          ['User', server.user],
          ...(latest?.steps ?? []).map(({ what, ok, text }): [string, React.ReactNode] => [
            inWords(what),
            <span key={what} className={ok ? undefined : 'care'}>
              {text}
            </span>,
          ]),
          ['Checked', latest && <Moment key="c" at={latest.at} />],
        ]}
      />
      <Trouble error={check.error} />
      <Group>
        <Button loading={check.isPending} onClick={() => check.mutate(at)}>
          Check now
        </Button>
        <ConfirmedButton
          label="Remove"
          verb="Remove"
          question={`Forget server ${server.name}?`}
          consequence="Its password is deleted. Its tables stay as they are."
          change={remove}
          onConfirm={() => remove.mutate(at, { onSuccess: onGone })}
        />
      </Group>
      <Tables server={server.name} />
    </Stack>
  );
}

function Tables({ server }: { server: string }) {
  const { params } = useEnvironment();
  const seen = useCall(operations.outside.seen, { params: { ...params, server } });
  const collections = useCall(operations.collections.list, { params });
  const [chosen, setChosen] = useState<SeenTable | null>(null);
  const shownAs = ({ table }: SeenTable) =>
    (collections.data?.items ?? []).filter(({ outside }) => outside?.server === server && outside.table === table).map(({ name }) => name);
  return (
    <section>
      <Title order={3}>Its tables</Title>
      <Loaded of={seen}>
        {({ items }) => (
          <div className="listing">
            <table>
              <TableHead columns={['Table', { right: 'Rows, about' }, 'Columns', 'Shown as', { hidden: 'Show' }]} />
              <tbody>
                {items.map((table) => (
                  <tr key={table.table}>
                    <td className="mono">{table.table}</td>
                    <td className="right mono">{table.view ? 'view' : table.rows === null ? '–' : count(table.rows)}</td>
                    <td className="whole">{table.columns.map(({ column }) => column).join(', ')}</td>
                    <td>
                      {shownAs(table).map((name) => (
                        <Anchor key={name} component={Link} size="sm" to={`../data/${name}`} className="mono">
                          {name}
                        </Anchor>
                      ))}
                    </td>
                    <td className="right">
                      <Button size="compact-xs" variant="default" onClick={() => setChosen(chosen?.table === table.table ? null : table)}>
                        Show as a collection
                      </Button>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Loaded>
      {chosen && <ShowTable key={chosen.table} server={server} table={chosen} />}
    </section>
  );
}
