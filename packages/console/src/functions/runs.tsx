import { Anchor, Button, NativeSelect, Text, Title } from '@mantine/core';
import { type FunctionRun, type FunctionShown, type FunctionVersion, operations } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { OFTEN, useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { count, milliseconds } from '../parts/format.js';
import { TableHead } from '../parts/tableHead.js';
import { Difference } from './codeEditor.js';

/** What a run wrote to its log, and the calls it made. */
export function Lines({ run: { log, calls } }: { run: Pick<FunctionRun, 'log' | 'calls'> }) {
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

/** The latest runs of a function. */
export function Runs({ name }: { name: string }) {
  const { params, base } = useEnvironment();
  const again = useChange(operations.functions.again);
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
                <TableHead columns={['At', 'For', 'Version', 'Outcome', { right: 'Took' }, { right: 'Processor' }, 'Log and calls']} />
                <tbody>
                  {items.map((run) => (
                    <tr key={run.id}>
                      <td>
                        <Moment at={run.at} />
                      </td>
                      <td className="whole">
                        {run.request ? (
                          <Anchor component={Link} size="sm" to={`${base}/requests?open=${run.request}`}>
                            {run.cause}
                          </Anchor>
                        ) : (
                          run.cause
                        )}
                        {run.attempt > 1 && <div className="hint">attempt {run.attempt}</div>}
                        {run.key && run.outcome !== 'answered' && (
                          <Button
                            size="compact-xs"
                            variant="default"
                            loading={again.isPending}
                            onClick={() => again.mutate({ params: { ...params, name, run: run.id } })}
                          >
                            Run again
                          </Button>
                        )}
                      </td>
                      <td className="mono">{run.version}</td>
                      <td className={run.outcome === 'answered' ? undefined : 'care'}>
                        {run.outcome} {run.status}
                      </td>
                      <td className="right mono">{milliseconds(run.durationMs)}</td>
                      <td className="right mono">
                        {milliseconds(run.cpuMs)}
                        {run.memoryKb !== null && <div className="hint">{count(run.memoryKb)} kB</div>}
                      </td>
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

/** The versions of a function: any can be put in force, for some users first, and compared with the one before. */
export function Versions({ shown: { name, part }, items }: { shown: FunctionShown; items: FunctionVersion[] }) {
  const { params } = useEnvironment();
  const [compared, setCompared] = useState<number | null>(null);
  const use = useChange(operations.functions.use);
  const put = (version: number, share?: number) =>
    use.mutate({ params: { ...params, name }, body: { version, ...(share === undefined ? {} : { share }) } });
  return (
    <section>
      <Title order={3}>Versions</Title>
      {part && (
        <Text size="sm">
          Version {part.version} holds for{' '}
          {part.users.length > 0 ? `${part.users.length} named users` : `${Math.round(part.share * 100)} % of callers`}.
        </Text>
      )}
      <div className="listing">
        <table>
          <TableHead columns={['Version', 'Saved', 'Files', { hidden: 'Use' }]} />
          <tbody>
            {items.map(({ version, createdAt, createdBy, files, inForce }) => (
              <tr key={version}>
                <td className="mono">{version}</td>
                <td>
                  <Moment at={createdAt} /> {createdBy.name}
                </td>
                <td className="mono">{Object.keys(files).join(', ')}</td>
                <td className="right">
                  <Button size="compact-xs" variant="subtle" onClick={() => setCompared(compared === version ? null : version)}>
                    {compared === version ? 'Hide difference' : 'Difference'}
                  </Button>{' '}
                  {inForce ? (
                    'in force'
                  ) : (
                    <>
                      <Button size="compact-xs" variant="default" loading={use.isPending} onClick={() => put(version)}>
                        Put in force
                      </Button>{' '}
                      <Button size="compact-xs" variant="default" loading={use.isPending} onClick={() => put(version, 0.1)}>
                        For 10 % first
                      </Button>
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Trouble error={use.error} />
      {compared !== null && <Compared items={items} version={compared} />}
    </section>
  );
}

/** A version beside another: the one before it, or whichever is chosen. */
function Compared({ items, version }: { items: FunctionVersion[]; version: number }) {
  const after = items.find((one) => one.version === version);
  const [chosen, setChosen] = useState(String(items.find((one) => one.version < version)?.version ?? items[0]?.version ?? version));
  const before = items.find((one) => String(one.version) === chosen);
  const files = [...new Set([...Object.keys(before?.files ?? {}), ...Object.keys(after?.files ?? {})])];
  return (
    <>
      <NativeSelect
        label={`Version ${version} beside`}
        w={200}
        data={items.map((one) => ({ value: String(one.version), label: `version ${one.version}` }))}
        value={chosen}
        onChange={({ currentTarget }) => setChosen(currentTarget.value)}
      />
      {files.map((file) => (
        <div key={file}>
          <Text size="sm" className="mono">
            {file}
          </Text>
          <Difference before={before?.files[file] ?? ''} after={after?.files[file] ?? ''} />
        </div>
      ))}
    </>
  );
}
