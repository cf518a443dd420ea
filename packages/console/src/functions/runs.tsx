import { Button, Text, Title } from '@mantine/core';
import { type FunctionRun, type FunctionVersion, operations } from '@orchard/contract';
import { OFTEN, useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { milliseconds } from '../parts/format.js';
import { TableHead } from '../parts/tableHead.js';

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

/** The versions of a function; any can be put in force. */
export function Versions({ name, items }: { name: string; items: FunctionVersion[] }) {
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
