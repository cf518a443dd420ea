/** The event plan, what came and does not fit, what was refused and why, and what arrives right now. */
import {
  Anchor,
  Badge,
  Button,
  Group,
  Modal,
  NativeSelect,
  Stack,
  Switch,
  Table,
  Tabs,
  TagsInput,
  Text,
  Textarea,
  TextInput,
  NumberInput,
} from '@mantine/core';
import { type EventKind, type InsightSettings, operations } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { OFTEN, useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Code, Empty, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { TableHead } from '../parts/tableHead.js';

const own = operations.events;

export function EventPlanPage() {
  const { params } = useEnvironment();
  const [tab, setTab] = useAddressState('tab', 'plan');
  return (
    <>
      <PageHead title="Event plan" hint="What the team means to record, what came, and what was refused">
        <FromCode
          calls={[
            coded(own.list, { params }),
            coded(own.refusals, { params }),
            coded(own.latest, { params, query: {} }),
            coded(own.types, { params }),
          ]}
        />
      </PageHead>
      <Tabs value={tab} onChange={setTab} keepMounted={false}>
        <Tabs.List mb="md">
          <Tabs.Tab value="plan">Events</Tabs.Tab>
          <Tabs.Tab value="refused">Refused</Tabs.Tab>
          <Tabs.Tab value="live">Is it sending?</Tabs.Tab>
          <Tabs.Tab value="settings">What is taken</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="plan">
          <Kinds />
        </Tabs.Panel>
        <Tabs.Panel value="refused">
          <Refused />
        </Tabs.Panel>
        <Tabs.Panel value="live">
          <Arriving />
        </Tabs.Panel>
        <Tabs.Panel value="settings">
          <Settings />
        </Tabs.Panel>
      </Tabs>
    </>
  );
}

function Kinds() {
  const { params, base, details } = useEnvironment();
  const kinds = useCall(own.list, { params }, OFTEN);
  const [open, setOpen] = useState<EventKind | null>(null);
  const mayPlan = details?.role !== 'viewer';
  return (
    <Loaded of={kinds}>
      {({ items }) => (
        <>
          {items.length === 0 ? (
            <Empty title="No event yet">
              <Text>Apps send them with the client library, or with one call:</Text>
              <Code>{`curl -X POST ${window.location.origin}/app/v1/events \\
  -H 'Orchard-Key: <client key>' -H 'Orchard-Device: <device>' -H 'Orchard-Device-Secret: <its secret>' \\
  -H 'Content-Type: application/json' \\
  -d '{"sentAt": "${new Date().toISOString()}", "events": [{"id": "1", "name": "app_opened", "at": "${new Date().toISOString()}"}]}'`}</Code>
            </Empty>
          ) : (
            <div className="listing">
              <table aria-label="Events">
                <TableHead
                  columns={['Event', 'Plan', 'Properties', 'Last came', { right: 'Not as planned' }, 'Owner', { hidden: 'Change' }]}
                />
                <tbody>
                  {items.map((kind) => (
                    <tr key={kind.name}>
                      <td title={kind.description}>
                        <Anchor component={Link} to={`${base}/insight-events?event=${encodeURIComponent(kind.name)}`}>
                          {kind.name}
                        </Anchor>
                      </td>
                      <td>
                        <Badge variant="light" color={kind.planned ? 'viridian' : 'gray'} tt="none">
                          {kind.planned ? 'planned' : 'not planned'}
                        </Badge>
                      </td>
                      <td title={kind.properties.map(({ name, type }) => `${name}: ${type}`).join(', ')}>
                        {kind.properties.map(({ name, planned }) => (
                          <span key={name} className={kind.planned && !planned ? 'care' : undefined}>
                            {name}{' '}
                          </span>
                        ))}
                      </td>
                      <td>{kind.lastAt ? <Moment at={kind.lastAt} /> : 'never'}</td>
                      <td className={kind.misfits > 0 ? 'right mono care' : 'right mono'}>{count(kind.misfits)}</td>
                      <td>{kind.owner}</td>
                      <td>
                        {mayPlan && (
                          <Anchor component="button" size="sm" onClick={() => setOpen(kind)}>
                            {kind.planned ? 'Change' : 'Plan'}
                          </Anchor>
                        )}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
          <Modal opened={open !== null} onClose={() => setOpen(null)} title={`Plan ${open?.name ?? ''}`} size="lg">
            {open && <PlanForm of={open} onDone={() => setOpen(null)} />}
          </Modal>
        </>
      )}
    </Loaded>
  );
}

const TYPES = ['text', 'number', 'boolean', 'time', 'list'] as const;

function PlanForm({ of, onDone }: { of: EventKind; onDone: () => void }) {
  const { params } = useEnvironment();
  const [types, setTypes] = useState(() => new Map(of.properties.map(({ name, type }) => [name, type])));
  const unplan = useChange(own.unplan);
  const form = useOperationForm(own.plan, {
    initial: { description: of.description, owner: of.owner },
    input: ({ description, owner }) => ({
      params: { ...params, event: of.name },
      body: { description, owner, properties: Object.fromEntries([...types].map(([name, type]) => [name, { type }])) },
    }),
    onDone,
  });
  return (
    <FormOf of={form} verb="Save">
      <Textarea label="What it means" autosize {...form.form.getInputProps('description')} />
      <TextInput label="Who answers for it" {...form.form.getInputProps('owner')} />
      <Table>
        <Table.Tbody>
          {[...types].map(([name, type]) => (
            <Table.Tr key={name}>
              <Table.Td>{name}</Table.Td>
              <Table.Td>
                <NativeSelect
                  size="xs"
                  aria-label={`Type of ${name}`}
                  value={type}
                  data={[...TYPES]}
                  onChange={({ currentTarget }) => setTypes(new Map([...types, [name, currentTarget.value as 'text']]))}
                />
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
      <Trouble error={unplan.error} />
      {of.planned && (
        <Button
          variant="subtle"
          color="persimmon"
          onClick={() => unplan.mutate({ params: { ...params, event: of.name } }, { onSuccess: onDone })}
        >
          Take out of the plan
        </Button>
      )}
    </FormOf>
  );
}

function Refused() {
  const { params } = useEnvironment();
  const refusals = useCall(own.refusals, { params }, OFTEN);
  return (
    <Loaded of={refusals}>
      {({ items }) =>
        items.length === 0 ? (
          <Empty title="Nothing was refused in the last eight days">
            <Text>Each event is taken or refused by itself. What is refused stands here with the reason and a sample.</Text>
          </Empty>
        ) : (
          <Stack>
            {items.map(({ problem, title, name, client, count: times, lastAt, detail, sample }) => (
              <section key={`${problem} ${name} ${client}`} className="panel">
                <Group gap="sm">
                  <Text fw={600}>{problem}</Text>
                  <Text size="sm">
                    {count(times)} × {name || 'without a name'} from {client}, last <Moment at={lastAt} />
                  </Text>
                </Group>
                <Text size="sm">
                  {title} {detail}
                </Text>
                <Code>{sample}</Code>
              </section>
            ))}
          </Stack>
        )
      }
    </Loaded>
  );
}

const SECOND_MS = 1_000;

function Arriving() {
  const { params } = useEnvironment();
  const [device, setDevice] = useAddressState('device');
  const latest = useCall(own.latest, { params, query: { ...(device ? { device } : {}) } }, { refetchInterval: SECOND_MS });
  return (
    <Stack>
      <TextInput
        label="Device"
        description="Its id, as the app registered it; empty for all"
        value={device}
        onChange={({ currentTarget }) => setDevice(currentTarget.value)}
        w={360}
      />
      <Loaded of={latest}>
        {({ items }) =>
          items.length === 0 ? (
            <Text>
              {device
                ? `Nothing has come from ${device} in the last minutes. If it sends, look under Refused.`
                : 'Nothing has come in the last minutes.'}
            </Text>
          ) : (
            <div className="listing">
              <table aria-label="Arriving events">
                <TableHead columns={['Arrived', 'Event', 'Device', 'User', 'Properties']} />
                <tbody>
                  {items.map(({ at, receivedAt, name, deviceId, userId, properties }, i) => (
                    // biome-ignore lint/suspicious/noArrayIndexKey: events have no id here, and stay in their order
                    <tr key={i}>
                      <td title={`Happened ${at}`}>
                        <Moment at={receivedAt} />
                      </td>
                      <td>{name}</td>
                      <td className="mono">{deviceId}</td>
                      <td className="mono">{userId && `…${userId.slice(-8)}`}</td>
                      <td className="mono" title={JSON.stringify(properties)}>
                        {JSON.stringify(properties)}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )
        }
      </Loaded>
    </Stack>
  );
}

function Settings() {
  const { params, details } = useEnvironment();
  const settings = useCall(own.settings, { params });
  const mayChange = details?.role === 'owner' || details?.role === 'maintainer';
  return <Loaded of={settings}>{(now) => <SettingsForm of={now} disabled={!mayChange} />}</Loaded>;
}

function SettingsForm({ of, disabled }: { of: InsightSettings; disabled: boolean }) {
  const { params } = useEnvironment();
  const form = useOperationForm(own.changeSettings, { initial: of, input: (body) => ({ params, body }), stale: [own.settings] });
  const { getInputProps } = form.form;
  return (
    <Stack maw={520}>
      <FormOf of={form} verb="Save" disabled={disabled}>
        <NativeSelect
          label="Events that are not planned, or do not fit the plan"
          data={[
            { value: 'take', label: 'are taken, and counted as not planned' },
            { value: 'refuse', label: 'are refused' },
          ]}
          {...getInputProps('unplanned')}
        />
        <Switch
          label="Only with consent"
          description="Events are dropped unless the app says that the person consents."
          {...getInputProps('consent', { type: 'checkbox' })}
        />
        <TagsInput label="Properties that are not kept" {...getInputProps('barred')} />
        <TextInput label="Time zone" description="In which days and weeks begin" {...getInputProps('zone')} />
        <NumberInput label="Minutes of silence that end a visit" min={1} {...getInputProps('visitGapMin')} />
        <NumberInput label="Days that events are kept" min={7} {...getInputProps('days')} />
      </FormOf>
    </Stack>
  );
}
