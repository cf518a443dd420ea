/** Functions: the code, tried and put in force here, with its versions and runs beside it. */
import { Button, Drawer, Group, Stack, Text, Title } from '@mantine/core';
import { type FunctionShown, operations } from '@orchard/contract';
import { OFTEN, useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Editor } from '../functions/editor.js';
import { Runs, Versions } from '../functions/runs.js';
import { Code, Empty, Loaded } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { count, milliseconds } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';

const STUB = `const handler: Endpoint = async ({ params, query, caller }, { records, log }) => {
  log.info('called by', caller.kind);
  return { body: { hello: query.name ?? 'hiker' } };
};
export default handler;
`;

export function FunctionsPage() {
  const [adding, setAdding] = useAddressState('add');
  return (
    <>
      <ListPage
        title="Functions"
        hint={
          <>
            The team’s own code, in force from the next call on · <a href="/docs/functions">what it can reach</a>
          </>
        }
        operation={operations.functions.list}
        {...OFTEN}
        label="Functions"
        idOf={({ name }) => name}
        empty={
          <Empty title="No function yet">
            <Text>An endpoint combines what apps would ask in many calls, or does what no rule can say.</Text>
            <Code>{'orchard function push price price.ts --path huts/{hut}/price'}</Code>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Function', render: ({ name }) => name },
          {
            name: 'path',
            label: 'Answers',
            render: ({ methods, path }) => <span className="mono">{`${methods.join(' ')} ${path}`}</span>,
          },
          { name: 'callers', label: 'For', render: ({ callers }) => callers },
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
        <Button onClick={() => setAdding('1')}>Add function</Button>
      </ListPage>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="xl" title="Add function">
        {adding && <Editor shown={null} files={{ 'main.ts': STUB }} onSaved={() => setAdding(null)} />}
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
      <Title order={2}>{shown.name}</Title>
      <Loaded of={versions}>
        {({ items }) => (
          <>
            <Editor shown={shown} files={(items.find(({ inForce }) => inForce) ?? items[0])?.files ?? {}} onSaved={() => undefined} />
            <Runs name={shown.name} />
            <Versions name={shown.name} items={items} />
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
