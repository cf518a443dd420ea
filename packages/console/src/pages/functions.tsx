/** Functions: the code, tried and put in force here, with its versions and runs beside it. */
import { Anchor, Button, Drawer, Group, Stack, Text, Title } from '@mantine/core';
import { type FunctionShown, functionWords, operations } from '@orchard/contract';
import { OFTEN, useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Editor } from '../functions/editor.js';
import { Runs, Versions } from '../functions/runs.js';
import { Secrets } from '../functions/secrets.js';
import { Code, Empty, Loaded, Moment } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { count, counted, milliseconds } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';

export function FunctionsPage() {
  const [adding, setAdding] = useAddressState('add');
  const [panel, setPanel] = useAddressState('panel');
  return (
    <>
      <ListPage
        title="Functions"
        hint={
          <>
            The team’s own code, in force from the next call on ·{' '}
            <Anchor href="/docs/functions" size="sm">
              what it can reach
            </Anchor>
          </>
        }
        operation={operations.functions.list}
        {...OFTEN}
        label="Functions"
        idOf={({ name }) => name}
        empty={
          <Empty title="No function yet">
            <Text>
              An endpoint combines what apps would ask in many calls; a hook checks what no rule can say, or does what follows from it; a
              schedule works by the clock.
            </Text>
            <Code>{'orchard function push price price.ts --path huts/{hut}/price'}</Code>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Function', render: ({ name }) => name },
          { name: 'kind', label: 'Kind', render: ({ kind }) => kind },
          { name: 'stands', label: 'Stands', render: (shown) => <span className="mono">{functionWords(shown)}</span> },
          {
            name: 'version',
            label: 'In force',
            render: ({ version, versions }) => (version === 0 ? 'none' : `version ${version} of ${versions}`),
          },
          { name: 'count', label: 'Runs, 24 h', right: true, render: ({ runs }) => <span className="mono">{count(runs.count)}</span> },
          {
            name: 'failed',
            label: 'Failed',
            right: true,
            render: ({ runs }) => <span className={runs.failed ? 'mono care' : 'mono'}>{count(runs.failed)}</span>,
          },
          { name: 'mean', label: 'Mean', right: true, render: ({ runs }) => <span className="mono">{milliseconds(runs.meanMs)}</span> },
        ]}
        drawer={{
          title: 'Function',
          size: 'xl',
          render: (name, close, items) => {
            const shown = items.find((one) => one.name === name);
            return shown && <OneFunction key={name} shown={shown} onGone={close} />;
          },
        }}
      >
        <Button variant="default" onClick={() => setPanel('secrets')}>
          Secrets
        </Button>
        <Button onClick={() => setAdding('1')}>Add function</Button>
      </ListPage>
      <Drawer opened={panel === 'secrets'} onClose={() => setPanel(null)} position="right" size="lg" title="Secrets">
        {panel === 'secrets' && <Secrets />}
      </Drawer>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="xl" title="Add function">
        {adding && <Editor shown={null} files={{}} {...(adding === '1' ? {} : { on: adding })} onSaved={() => setAdding(null)} />}
      </Drawer>
    </>
  );
}

function OneFunction({ shown, onGone }: { shown: FunctionShown; onGone: () => void }) {
  const { params } = useEnvironment();
  const at = { params: { ...params, name: shown.name } };
  const versions = useCall(operations.functions.versions, at);
  const remove = useChange(operations.functions.remove);
  return (
    <Stack gap="lg">
      <div>
        <Title order={2}>{shown.name}</Title>
        <Text className="mono" size="sm">
          {functionWords(shown)}
        </Text>
        {shown.nextAt && (
          <Text size="sm">
            It runs next <Moment at={shown.nextAt} />.
          </Text>
        )}
        {shown.waiting > 0 && <Text size="sm">{counted(shown.waiting, 'call')} of it waits to be run, or to be retried.</Text>}
      </div>
      <Loaded of={versions}>
        {({ items }) => (
          <>
            <Editor shown={shown} files={(items.find(({ inForce }) => inForce) ?? items[0])?.files ?? {}} onSaved={() => undefined} />
            <Runs name={shown.name} />
            <Versions shown={shown} items={items} />
          </>
        )}
      </Loaded>
      <Group>
        <ConfirmedButton
          label="Delete"
          verb="Delete"
          question={`Delete function ${shown.name}?`}
          consequence="Its versions and runs are deleted. Whoever calls it gets not-found."
          change={remove}
          onConfirm={() => remove.mutate(at, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}
