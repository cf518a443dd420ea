/** The log: what service, gateways, jobs and apps have to say. */
import { Anchor, Button, Group, Menu, Stack, Switch, Text, Title } from '@mantine/core';
import { addressOf, type LogEntry, operations } from '@orchard/contract';
import { LOG_LEVELS, type LogLevel } from '@orchard/core';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Code, Empty, Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { FreeText } from '../parts/freeText.js';
import { coded } from '../parts/fromCode.js';
import { ListPage } from '../parts/listPage.js';
import { useListState } from '../parts/listState.js';
import { RequestInFull } from '../requests/detail.js';
import { SavedSearches } from '../requests/savedSearches.js';

const own = operations.log;
const FOLLOW_MS = 1_000;

export function Level({ of }: { of: LogLevel }) {
  return <span className={of === 'error' || of === 'warning' ? 'care' : undefined}>{of}</span>;
}

export function LogPage() {
  const { params } = useEnvironment();
  const [text] = useAddressState('text');
  const [follow, setFollow] = useAddressState('follow');
  const { filter } = useListState('-at');
  const [mixed, setMixed] = useAddressState('requests');
  const also = { ...(text ? { text } : {}), ...(mixed ? { requests: 'true' } : {}) };
  const selection = { ...(text ? { text } : {}), ...(filter ? { filter } : {}) };
  return (
    <ListPage
      title="Log"
      hint="What service, gateways, jobs and apps have to say, latest first"
      operation={own.list}
      also={also}
      {...(follow ? { refetchInterval: FOLLOW_MS } : {})}
      label="Log entries"
      initialSort="-at"
      idOf={({ id }) => id}
      example="level = 'error' AND source LIKE 'app%'"
      presets={[
        { label: 'Errors', filter: "level = 'error'" },
        { label: 'Warnings and errors', filter: "level IN ('warning', 'error')" },
        { label: 'Gateways', filter: "source LIKE 'gateway%'" },
        { label: 'Apps', filter: "source LIKE 'app%'" },
      ]}
      above={<FreeText placeholder="Free text in text and fields" />}
      calls={[coded(own.export, { params, query: selection }), coded(own.levels, { params })]}
      empty={
        <Empty title="No entry yet">
          <Text>Apps bring theirs with one call:</Text>
          <Code>{`curl -X POST ${window.location.origin}/app/v1/log \\
  -H 'Orchard-Key: <client key>' -H 'Content-Type: application/json' \\
  -d '{"entries": [{"level": "info", "text": "The map is stored"}]}'`}</Code>
        </Empty>
      }
      columns={[
        { name: 'at', label: 'Time', sortable: true, render: ({ at }) => <Moment at={at} /> },
        { name: 'level', label: 'Level', render: ({ level }) => <Level of={level} /> },
        { name: 'source', label: 'Source', sortable: true, render: ({ source }) => source },
        { name: 'text', label: 'Text', render: (entry) => <span title={entry.text}>{entry.text}</span> },
        { name: 'version', label: 'Version', render: ({ version }) => version },
        { name: 'deviceId', label: 'Device', render: ({ deviceId }) => deviceId && <span className="mono">{deviceId}</span> },
      ]}
      drawer={{
        title: 'Log entry',
        size: 'xl',
        render: (id, _close, items) => <OneEntry id={id} known={items.find((one) => one.id === id)} />,
      }}
    >
      <Switch
        size="xs"
        label="Follow"
        checked={follow !== ''}
        onChange={({ currentTarget }) => setFollow(currentTarget.checked ? '1' : null)}
      />
      <Switch
        size="xs"
        label="With requests"
        checked={mixed !== ''}
        onChange={({ currentTarget }) => setMixed(currentTarget.checked ? '1' : null)}
      />
      <SavedSearches list="log" />
      <LevelMenu />
      <Anchor size="sm" href={addressOf(own.export, { params, query: selection })} download="log.ndjson">
        NDJSON
      </Anchor>
    </ListPage>
  );
}

/** The least level that is kept, raised for a while. */
function LevelMenu() {
  const { params, details } = useEnvironment();
  const levels = useCall(own.levels, { params });
  const change = useChange(own.changeLevels, [own.levels]);
  const raised = levels.data?.raised ?? [];
  const least = levels.data?.levels['*'] ?? 'info';
  const set = (body: { level: LogLevel; minutes?: number }) => change.mutate({ params, body: { source: '*', ...body } });
  return (
    <>
      <Menu position="bottom-end">
        <Menu.Target>
          <Button size="xs" variant="default" disabled={details?.role === 'viewer'}>
            {raised[0] ? `from ${raised[0].level} until ${new Date(raised[0].until).toLocaleTimeString()}` : `from ${least}`}
          </Button>
        </Menu.Target>
        <Menu.Dropdown>
          <Menu.Label>Everything for ten minutes</Menu.Label>
          <Menu.Item onClick={() => set({ level: 'debug', minutes: 10 })}>from debug, then back by itself</Menu.Item>
          <Menu.Label>From now on</Menu.Label>
          {LOG_LEVELS.map((level) => (
            <Menu.Item key={level} onClick={() => set({ level })}>
              from {level}
            </Menu.Item>
          ))}
        </Menu.Dropdown>
      </Menu>
      <Trouble error={change.error} />
    </>
  );
}

/** An entry with what came before and after it. */
function OneEntry({ id, known }: { id: string; known: LogEntry | undefined }) {
  return known?.source === 'request' ? <RequestInFull id={id} /> : <OneLogEntry id={id} known={known} />;
}

function OneLogEntry({ id, known }: { id: string; known: LogEntry | undefined }) {
  const { params, base } = useEnvironment();
  const around = useCall(own.list, { params, query: { around: id } });
  const entry = known ?? around.data?.items.find((one) => one.id === id);
  if (!entry) return <Loaded of={around}>{() => <Text>It is not there any more.</Text>}</Loaded>;
  const { at, level, source, text, fields, trace, deviceId, userId, version, error } = entry;
  return (
    <Stack>
      <Text fw={600} style={{ overflowWrap: 'anywhere' }}>
        {text}
      </Text>
      <Facts
        of={[
          ['Time', <Moment key="t" at={at} />],
          ['Level', <Level key="l" of={level} />],
          ['Source', source],
          ['Version', version],
          [
            'Device',
            deviceId && (
              <Anchor key="d" component={Link} to={`${base}/devices?open=${deviceId}`}>
                {deviceId}
              </Anchor>
            ),
          ],
          [
            'User',
            userId && (
              <Anchor key="u" component={Link} to={`${base}/users?open=${userId}`}>
                {userId}
              </Anchor>
            ),
          ],
          [
            'Error',
            error && (
              <Anchor key="e" component={Link} to={`${base}/errors?open=${error}`}>
                all of this cause
              </Anchor>
            ),
          ],
        ]}
      />
      {trace && (
        <Group gap="sm">
          <Text size="sm" c="dimmed">
            Same trace
          </Text>
          <Anchor size="sm" component={Link} to={`${base}/requests?filter=${encodeURIComponent(`trace = '${trace}'`)}`}>
            requests
          </Anchor>
          <Anchor size="sm" component={Link} to={`${base}/log?filter=${encodeURIComponent(`trace = '${trace}'`)}`}>
            log entries
          </Anchor>
        </Group>
      )}
      {fields && <Code label="Copy the fields">{stackOf(fields) ?? JSON.stringify(fields, null, 2)}</Code>}
      <section className="panel">
        <Title order={3} mb={4}>
          Around it
        </Title>
        <Loaded of={around}>
          {({ items }) => (
            <table className="plain">
              <tbody>
                {items.map((one) => (
                  <tr key={one.id} data-fresh={one.id === id || undefined}>
                    <td>
                      <Moment at={one.at} />
                    </td>
                    <td>
                      <Level of={one.level} />
                    </td>
                    <td>{one.source}</td>
                    <td>{one.text.slice(0, 160)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </Loaded>
      </section>
    </Stack>
  );
}

const stackOf = (fields: Record<string, unknown>): string | null => (typeof fields.stack === 'string' ? fields.stack : null);
