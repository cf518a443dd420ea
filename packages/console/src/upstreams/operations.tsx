/** Which operations of an upstream apps may call, and those that its OpenAPI document lists. */
import { Button, FileButton, Group, NativeSelect, Text, TextInput, Title } from '@mantine/core';
import { operations, UPSTREAM_METHODS, type Upstream, type UpstreamDefinition, type UpstreamOperation } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Trouble } from '../parts/basics.js';
import { TableHead } from '../parts/tableHead.js';

const CALLERS = [
  { value: 'nobody', label: 'functions alone' },
  { value: 'anyone', label: 'anyone with a client key' },
  { value: 'signed-in', label: 'signed-in users and servers' },
  { value: 'servers', label: 'servers alone' },
];
const definitionOf = ({
  name: _n,
  description: _d,
  recorded: _r,
  check: _c,
  health: _h,
  createdBy: _b,
  changedAt: _a,
  ...definition
}: Upstream) => definition as UpstreamDefinition;

/** `GET /forecasts/{hut}` becomes `forecasts-hut`. */
const nameFor = (method: string, path: string): string =>
  `${method === 'GET' ? '' : `${method.toLowerCase()}-`}${path
    .replace(/[{}]/g, '')
    .replace(/[^A-Za-z0-9]+/g, '-')
    .replace(/^-|-$/g, '')}`
    .toLowerCase()
    .slice(0, 40) || 'root';

function useOperations(upstream: Upstream) {
  const { params } = useEnvironment();
  const put = useChange(operations.upstreams.put);
  const save = (open: UpstreamOperation[]) =>
    put.mutate({ params: { ...params, upstream: upstream.name }, body: { ...definitionOf(upstream), operations: open } });
  return { put, save };
}

export function OperationsOf({ upstream }: { upstream: Upstream }) {
  const { put, save } = useOperations(upstream);
  const [method, setMethod] = useState<UpstreamOperation['method']>('GET');
  const [path, setPath] = useState('');
  const { operations: open } = upstream;
  const change = (name: string, changes: Partial<UpstreamOperation>) =>
    save(open.map((one) => (one.name === name ? { ...one, ...changes } : one)));
  return (
    <section>
      <Title order={3}>Straight through</Title>
      <Text size="sm" c="dimmed">
        Apps call these at <span className="mono">/app/v1/upstreams/{upstream.name}/…</span>
      </Text>
      {open.length > 0 && (
        <div className="listing">
          <table>
            <TableHead columns={['Operation', 'Path', 'For', 'Rule', { hidden: 'Remove' }]} />
            <tbody>
              {open.map(({ name, method: by, path: at, callers, rule }) => (
                <tr key={name}>
                  <td>{name}</td>
                  <td className="mono">{`${by} ${at}`}</td>
                  <td>
                    <NativeSelect
                      size="xs"
                      aria-label={`Who may call ${name}`}
                      data={CALLERS}
                      value={callers}
                      onChange={({ currentTarget }) => change(name, { callers: currentTarget.value as UpstreamOperation['callers'] })}
                    />
                  </td>
                  <td className="mono whole">{rule ?? '–'}</td>
                  <td className="right">
                    <Button size="compact-xs" variant="default" onClick={() => save(open.filter((one) => one.name !== name))}>
                      Remove
                    </Button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <Group align="flex-end" mt="xs">
        <NativeSelect
          label="Method"
          w={110}
          data={[...UPSTREAM_METHODS]}
          value={method}
          onChange={({ currentTarget }) => setMethod(currentTarget.value as UpstreamOperation['method'])}
        />
        <TextInput
          label="Path"
          placeholder="/forecasts/{hut}"
          classNames={{ input: 'mono' }}
          style={{ flex: 1 }}
          value={path}
          onChange={({ currentTarget }) => setPath(currentTarget.value)}
        />
        <Button
          variant="default"
          disabled={!path.startsWith('/')}
          loading={put.isPending}
          onClick={() => save([...open, { name: nameFor(method, path), method, path, callers: 'signed-in' }])}
        >
          Open it
        </Button>
      </Group>
      <Trouble error={put.error} />
    </section>
  );
}

export function DescriptionOf({ upstream }: { upstream: Upstream }) {
  const { params } = useEnvironment();
  const at = { params: { ...params, upstream: upstream.name } };
  const described = useCall(operations.upstreams.description, at);
  const describe = useChange(operations.upstreams.describe);
  const { save } = useOperations(upstream);
  const [wrong, setWrong] = useState<string | null>(null);
  const take = async (file: File | null) => {
    if (!file) return;
    try {
      setWrong(null);
      describe.mutate({ ...at, body: JSON.parse(await file.text()) });
    } catch {
      setWrong(`${file.name} is not JSON.`);
    }
  };
  return (
    <section>
      <Title order={3}>Description</Title>
      <Loaded of={described}>
        {({ items }) =>
          items.length === 0 ? (
            <Text size="sm" c="dimmed">
              With its OpenAPI document its operations are listed here, and its paths are checked in functions.
            </Text>
          ) : (
            <div className="listing">
              <table>
                <TableHead columns={['Operation', 'What it does', { hidden: 'Open' }]} />
                <tbody>
                  {items.map(({ method, path, summary, chosen }) => (
                    <tr key={`${method} ${path}`}>
                      <td className="mono">{`${method} ${path}`}</td>
                      <td className="whole">{summary}</td>
                      <td className="right">
                        {chosen ? (
                          'open'
                        ) : (
                          <Button
                            size="compact-xs"
                            variant="default"
                            onClick={() =>
                              save([
                                ...upstream.operations,
                                { name: nameFor(method, path), method: method as UpstreamOperation['method'], path, callers: 'signed-in' },
                              ])
                            }
                          >
                            Open it
                          </Button>
                        )}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )
        }
      </Loaded>
      <FileButton accept=".json,application/json" onChange={(file) => void take(file)}>
        {(props) => (
          <Button {...props} variant="default" size="xs" mt="xs" loading={describe.isPending}>
            {upstream.description ? 'Replace the OpenAPI document' : 'Give its OpenAPI document'}
          </Button>
        )}
      </FileButton>
      {wrong && <Text className="care">{wrong}</Text>}
      <Trouble error={describe.error} />
    </section>
  );
}
