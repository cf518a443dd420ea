/** Functions: the code, tried and put in force here, with its versions and runs beside it. */
import {
  Button,
  Checkbox,
  Drawer,
  Group,
  MultiSelect,
  NativeSelect,
  Stack,
  TagsInput,
  Text,
  Textarea,
  TextInput,
  Title,
} from '@mantine/core';
import { ENDPOINT_METHODS, type FunctionRun, type FunctionShown, type FunctionVersion, operations, Problem } from '@orchard/contract';
import { useState } from 'react';
import { OFTEN, useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Code, Empty, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { count, milliseconds } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { TableHead } from '../parts/tableHead.js';

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
            return shown && <OneFunction key={`${name} ${shown.versions}`} shown={shown} onGone={close} />;
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

const definitionOf = (shown: FunctionShown | null) => ({
  path: shown?.path ?? '',
  methods: shown?.methods ?? (['GET'] as FunctionShown['methods']),
  callers: shown?.callers ?? ('signed-in' as const),
  rights: shown?.rights ?? ('caller' as const),
  hosts: shown?.hosts ?? [],
});

/** Errors as the check gives them: at a file, line and column. */
function CheckErrors({ error }: { error: unknown }) {
  if (!(error instanceof Problem) || error.problem !== 'function-refused') return <Trouble error={error} />;
  return (
    <ul className="check-errors" role="alert">
      {(error.extras.fields ?? []).map(({ path, problem }) => (
        <li key={path + problem}>
          <span className="mono">{path}</span> {problem}
        </li>
      ))}
    </ul>
  );
}

function Editor({ shown, files: saved, onSaved }: { shown: FunctionShown | null; files: Record<string, string>; onSaved: () => void }) {
  const { params } = useEnvironment();
  const [name, setName] = useState(shown?.name ?? '');
  const [files, setFiles] = useState(saved);
  const [open, setOpen] = useState(Object.keys(saved).find((file) => file.startsWith('main.')) ?? Object.keys(saved)[0] ?? 'main.ts');
  const [wanted, setWanted] = useState(definitionOf(shown));
  const [use, setUse] = useState(true);
  const [request, setRequest] = useState('{ "query": {} }');
  const put = useChange(operations.functions.put);
  const attempt = useChange(operations.functions.try, []);
  const at = { params: { ...params, name: name.trim() } };
  const save = () =>
    put.mutate({ ...at, body: { kind: 'endpoint', ...wanted, path: wanted.path || name.trim(), files, use } }, { onSuccess: onSaved });
  const run = () => attempt.mutate({ ...at, body: { request: readRequest(request) as never, files } });
  const set = (change: Partial<typeof wanted>) => setWanted((before) => ({ ...before, ...change }));
  return (
    <Stack gap="sm">
      <Group grow align="flex-start">
        {!shown && (
          <TextInput label="Name" placeholder="price" value={name} onChange={({ currentTarget }) => setName(currentTarget.value)} />
        )}
        <TextInput
          label="Path below /app/v1/endpoints/"
          placeholder="huts/{hut}/price"
          classNames={{ input: 'mono' }}
          value={wanted.path}
          onChange={({ currentTarget }) => set({ path: currentTarget.value })}
        />
        <MultiSelect
          label="Methods"
          data={[...ENDPOINT_METHODS]}
          value={wanted.methods}
          onChange={(methods) => set({ methods: methods as never })}
        />
      </Group>
      <Group grow align="flex-start">
        <NativeSelect
          label="Who may call it"
          data={[
            { value: 'signed-in', label: 'signed-in users and servers' },
            { value: 'anyone', label: 'anyone with a client key' },
            { value: 'servers', label: 'servers alone' },
          ]}
          value={wanted.callers}
          onChange={({ currentTarget }) => set({ callers: currentTarget.value as never })}
        />
        <NativeSelect
          label="Its rights"
          data={[
            { value: 'caller', label: 'those of whoever calls it' },
            { value: 'own', label: 'its own: no rules apply' },
          ]}
          value={wanted.rights}
          onChange={({ currentTarget }) => set({ rights: currentTarget.value as never })}
        />
        <TagsInput
          label="Hosts it may fetch from"
          placeholder="weather.example"
          value={wanted.hosts}
          onChange={(hosts) => set({ hosts })}
        />
      </Group>
      {Object.keys(files).length > 1 && (
        <NativeSelect label="File" data={Object.keys(files)} value={open} onChange={({ currentTarget }) => setOpen(currentTarget.value)} />
      )}
      <Textarea
        label={open}
        autosize
        minRows={14}
        maxRows={32}
        spellCheck={false}
        wrap="off"
        classNames={{ input: 'mono' }}
        value={files[open] ?? ''}
        onChange={({ currentTarget: { value } }) => setFiles((before) => ({ ...before, [open]: value }))}
      />
      <CheckErrors error={put.error} />
      <Group>
        <Button onClick={save} loading={put.isPending} disabled={!name.trim()}>
          Save
        </Button>
        <Checkbox label="Put it in force at once" checked={use} onChange={({ currentTarget }) => setUse(currentTarget.checked)} />
      </Group>
      {shown && (
        <section>
          <Title order={3}>Try it</Title>
          <Group align="flex-end">
            <TextInput
              label="Request"
              description="method, params, query, body"
              style={{ flex: 1 }}
              classNames={{ input: 'mono' }}
              value={request}
              onChange={({ currentTarget }) => setRequest(currentTarget.value)}
            />
            <Button variant="default" onClick={run} loading={attempt.isPending} disabled={readRequest(request) === null}>
              Try
            </Button>
          </Group>
          <CheckErrors error={attempt.error} />
          {attempt.data && (
            <div role="status">
              <Text size="sm" fw={600} className={attempt.data.outcome === 'answered' ? undefined : 'care'}>
                {attempt.data.outcome}, {milliseconds(attempt.data.durationMs)}
              </Text>
              {attempt.data.error && <Text size="sm">{attempt.data.error}</Text>}
              <Code>{JSON.stringify(attempt.data.answer, null, 2)}</Code>
              {attempt.data.changes.length > 0 && (
                <>
                  <Text size="sm">It would have written, and did not:</Text>
                  <Code>{JSON.stringify(attempt.data.changes, null, 2)}</Code>
                </>
              )}
              <Lines run={attempt.data} />
            </div>
          )}
        </section>
      )}
    </Stack>
  );
}

function readRequest(text: string): object | null {
  try {
    return JSON.parse(text || '{}') as object;
  } catch {
    return null;
  }
}

function Lines({ run: { log, calls } }: { run: Pick<FunctionRun, 'log' | 'calls'> }) {
  return (
    <>
      {log.map(({ level, text }, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: a line is its place
        <div key={i} className={level === 'error' ? 'mono care' : 'mono'}>
          {text}
        </div>
      ))}
      {calls.map(({ name, about, ms, ok }, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: two calls can be alike in everything
        <div key={i} className={ok ? 'hint' : 'hint care'}>
          {name} {about}: {milliseconds(ms)}
        </div>
      ))}
    </>
  );
}

function Runs({ name }: { name: string }) {
  const { params } = useEnvironment();
  const runs = useCall(operations.functions.runs, { params: { ...params, name }, query: { limit: 20 } }, OFTEN);
  return (
    <section>
      <Title order={3}>Runs</Title>
      <Loaded of={runs}>
        {({ items }) =>
          items.length === 0 ? (
            <Text c="dimmed">It has not been called yet.</Text>
          ) : (
            <div className="listing">
              <table>
                <TableHead columns={['At', 'Version', 'Outcome', { right: 'Took' }, { right: 'Processor' }, 'Log and calls']} />
                <tbody>
                  {items.map((run) => (
                    <tr key={run.id}>
                      <td>
                        <Moment at={run.at} />
                      </td>
                      <td className="mono">{run.version}</td>
                      <td className={run.outcome === 'answered' ? undefined : 'care'}>
                        {run.outcome} {run.status}
                      </td>
                      <td className="right mono">{milliseconds(run.durationMs)}</td>
                      <td className="right mono">{milliseconds(run.cpuMs)}</td>
                      <td className="whole">
                        {run.error && <div className="care">{run.error}</div>}
                        <Lines run={run} />
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
  );
}

function Versions({ name, items }: { name: string; items: FunctionVersion[] }) {
  const { params } = useEnvironment();
  const use = useChange(operations.functions.use);
  return (
    <section>
      <Title order={3}>Versions</Title>
      <div className="listing">
        <table>
          <TableHead columns={['Version', 'Saved', 'Files', { hidden: 'Use' }]} />
          <tbody>
            {items.map(({ version, createdAt, files, inForce }) => (
              <tr key={version}>
                <td className="mono">{version}</td>
                <td>
                  <Moment at={createdAt} />
                </td>
                <td className="mono">{Object.keys(files).join(', ')}</td>
                <td className="right">
                  {inForce ? (
                    'in force'
                  ) : (
                    <Button
                      size="compact-xs"
                      variant="default"
                      loading={use.isPending}
                      onClick={() => use.mutate({ params: { ...params, name }, body: { version } })}
                    >
                      Put in force
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Trouble error={use.error} />
    </section>
  );
}
