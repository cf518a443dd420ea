/** Incidents: what happened, who was told, and what was changed just before. */
import { Anchor, Button, Group, Stack, Text, Textarea, Title } from '@mantine/core';
import { actorWords, type IncidentDetail, operations } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Condition } from '../condition/leaf.js';
import { useEnvironment } from '../environment.js';
import { PlannedWork } from '../incidents/plannedWork.js';
import { Empty, Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { count, milliseconds } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { TableHead } from '../parts/tableHead.js';

const own = operations.incidents;

export function IncidentsPage() {
  return (
    <ListPage
      title="Incidents"
      hint="Stretches in which the environment was not well, from the first sign to all clear"
      operation={own.list}
      label="Incidents"
      initialSort="-openedAt"
      refetchInterval={10_000}
      idOf={({ id }) => id}
      example="closedAt IS NULL"
      presets={[
        { label: 'Open', filter: 'closedAt IS NULL' },
        { label: 'Nobody acknowledged', filter: 'acknowledgedAt IS NULL' },
        { label: 'Failing', filter: "condition = 'failing'" },
      ]}
      above={<PlannedWork />}
      empty={
        <Empty title="No incident yet">
          <Text>
            One opens by itself when the condition is no longer thriving, and closes when it is again. The limits are under Condition, and
            who is told of it under Alerts.
          </Text>
        </Empty>
      }
      columns={[
        { name: 'openedAt', label: 'Opened', sortable: true, render: ({ openedAt }) => <Moment at={openedAt} /> },
        { name: 'condition', label: 'Worst', render: ({ condition }) => <Condition of={condition} /> },
        { name: 'title', label: 'What', render: ({ title }) => <span title={title}>{title}</span> },
        { name: 'closedAt', label: 'Lasted', sortable: true, render: ({ openedAt, closedAt }) => lasted(openedAt, closedAt) },
        {
          name: 'acknowledgedAt',
          label: 'Acknowledged',
          render: ({ acknowledgedBy }) => (acknowledgedBy ? actorWords(acknowledgedBy) : <span className="care">by nobody</span>),
        },
      ]}
      drawer={{ title: 'Incident', size: 'xl', render: (id) => <OneIncident id={id} /> }}
    />
  );
}

function lasted(openedAt: string, closedAt: string | null): string {
  const minutes = Math.max(1, Math.round((Date.parse(closedAt ?? new Date().toISOString()) - Date.parse(openedAt)) / 60_000));
  const words = minutes < 120 ? `${minutes} min` : `${(minutes / 60).toFixed(1)} h`;
  return closedAt ? words : `${words}, still open`;
}

function OneIncident({ id }: { id: string }) {
  const { params } = useEnvironment();
  const incident = useCall(own.read, { params: { ...params, incident: id } }, { refetchInterval: 5_000 });
  return <Loaded of={incident}>{(detail) => <Detail of={detail} />}</Loaded>;
}

function Detail({ of }: { of: IncidentDetail }) {
  const { params, base, details } = useEnvironment();
  const { id, title, condition, openedAt, closedAt, acknowledgedAt, acknowledgedBy } = of;
  const acknowledge = useChange(own.acknowledge);
  const from = new Date(Date.parse(openedAt) - 300_000).toISOString();
  const until = closedAt ?? new Date().toISOString();
  const during = `at > TIMESTAMP('${from}') AND at < TIMESTAMP('${until}')`;
  return (
    <Stack>
      <Text fw={600}>{title}</Text>
      <Facts
        of={[
          ['Worst condition', <Condition key="c" of={condition} />],
          ['Opened', <Moment key="o" at={openedAt} />],
          ['Closed', closedAt ? <Moment key="cl" at={closedAt} /> : 'still open'],
          ['Lasted', lasted(openedAt, closedAt)],
          ['Acknowledged', acknowledgedBy ? `${actorWords(acknowledgedBy)}, ${new Date(acknowledgedAt ?? '').toLocaleTimeString()}` : null],
        ]}
      />
      <Trouble error={acknowledge.error} />
      <Group gap="sm">
        {!acknowledgedAt && !closedAt && details?.role !== 'viewer' && (
          <Button loading={acknowledge.isPending} onClick={() => acknowledge.mutate({ params: { ...params, incident: id } })}>
            Acknowledge
          </Button>
        )}
        <Anchor component={Link} to={`${base}/requests?filter=${encodeURIComponent(`status >= 400 AND ${during}`)}`} size="sm">
          Refused and failed calls of that time
        </Anchor>
        <Anchor component={Link} to={`${base}/condition?at=${encodeURIComponent(openedAt)}`} size="sm">
          The condition when it began
        </Anchor>
      </Group>
      <section className="panel">
        <Title order={3} mb={4}>
          What happened
        </Title>
        <ol className="happenings">
          {of.happenings.map(({ at, kind, text, by }, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: what happened stays in its order
            <li key={i} data-kind={kind}>
              <Moment at={at} />
              <span>
                <b>{kind.replaceAll('-', ' ')}</b> {text}
                {by.kind !== 'service' && <Text span c="dimmed">{`, ${actorWords(by)}`}</Text>}
              </span>
            </li>
          ))}
        </ol>
        <NoteForm id={id} />
      </section>
      <WorstRoutes of={of.routes} to={(filter) => `${base}/requests?filter=${encodeURIComponent(`${filter} AND ${during}`)}`} />
      {of.changes && (
        <section className="panel">
          <Title order={3} mb={4}>
            Changed by the team, from half an hour before
          </Title>
          {of.changes.length === 0 ? (
            <Text size="sm">Nothing.</Text>
          ) : (
            <table className="plain">
              <tbody>
                {of.changes.map(({ id: entry, at, actor, summary, subject }) => (
                  <tr key={entry}>
                    <td>
                      <Moment at={at} />
                    </td>
                    <td>{actorWords(actor)}</td>
                    <td>
                      <Anchor component={Link} to={`${base}/audit?open=${entry}`} size="sm">
                        {summary.split(/[;,:]/)[0]}
                      </Anchor>
                    </td>
                    <td className="mono">{subject}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </section>
      )}
    </Stack>
  );
}

function NoteForm({ id }: { id: string }) {
  const { params } = useEnvironment();
  const [text, setText] = useState('');
  const note = useChange(own.note);
  return (
    <Group align="flex-end" mt="sm">
      <Textarea
        aria-label="Note"
        placeholder="A note for those who come later"
        autosize
        style={{ flex: 1 }}
        value={text}
        onChange={({ currentTarget }) => setText(currentTarget.value)}
      />
      <Button
        variant="default"
        disabled={text.trim() === ''}
        loading={note.isPending}
        onClick={() => note.mutate({ params: { ...params, incident: id }, body: { text } }, { onSuccess: () => setText('') })}
      >
        Add note
      </Button>
    </Group>
  );
}

function WorstRoutes({ of, to }: { of: IncidentDetail['routes']; to: (filter: string) => string }) {
  return (
    <section className="panel">
      <Title order={3} mb={4}>
        The worst routes
      </Title>
      <div className="listing" style={{ borderTop: 0 }}>
        <table>
          <TableHead columns={['Route', { right: 'Calls' }, { right: 'Failed' }, { right: 'Refused' }, { right: 'p95' }]} />
          <tbody>
            {of.map(({ method, route, calls, failed, refused, p95Ms }) => (
              <tr key={`${method} ${route}`}>
                <td>
                  <Anchor component={Link} className="mono" to={to(`method = '${method}' AND route = '${route}'`)}>
                    {method} {route}
                  </Anchor>
                </td>
                <td className="right mono">{count(calls)}</td>
                <td className={failed > 0 ? 'right mono care' : 'right mono'}>{count(failed)}</td>
                <td className="right mono">{count(refused)}</td>
                <td className="right mono">{milliseconds(p95Ms)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}
