/** Jobs: waiting, failing and given up. */
import { Button, Group, Stack, Text } from '@mantine/core';
import { type Job, operations } from '@orchard/contract';
import { Link } from 'react-router';
import { useChange } from '../api.js';
import { Empty, Facts, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { ListPage } from '../parts/listPage.js';
import { useEnvironment } from '../environment.js';

const STATE_WORDS = { waiting: 'waiting', running: 'running', failing: 'failing', 'given-up': 'given up' } as const;
const PRESETS = [
  { label: 'Given up', filter: "state = 'given-up'" },
  { label: 'Failing', filter: "state = 'failing'" },
];

export function JobsPage() {
  return (
    <ListPage
      title="Jobs"
      hint="Background work, such as sending. A failing job is retried with back-off, and given up in the end"
      operation={operations.jobs.list}
      label="Jobs"
      initialSort="runAt"
      idOf={idOf}
      presets={PRESETS}
      example="state = 'given-up' AND kind LIKE 'send%'"
      empty={
        <Empty title="No jobs">
          <Text>Jobs appear here while a notification is being sent or waits for its time. Finished jobs leave the list.</Text>
        </Empty>
      }
      columns={[
        { name: 'kind', label: 'Job', sortable: true, render: ({ kind }) => <span className="mono">{kind}</span> },
        { name: 'state', label: 'State', sortable: true, render: (job) => <State of={job} /> },
        {
          name: 'runAt',
          label: 'Next attempt',
          sortable: true,
          render: (job) => (job.state === 'given-up' ? '—' : <Moment at={job.runAt} />),
        },
        {
          name: 'attempts',
          label: 'Failures',
          sortable: true,
          right: true,
          render: ({ attempts }) => <span className="mono">{attempts}</span>,
        },
        { name: 'lastError', label: 'Last error', render: ({ lastError }) => lastError },
      ]}
      drawer={{
        title: 'Job',
        render: (id, close, items) => {
          const job = items.find((one) => one.id === id);
          return job && <OneJob job={job} onGone={close} />;
        },
      }}
    />
  );
}

const idOf = ({ id }: Job) => id;

function State({ of: { state } }: { of: Job }) {
  return <span className={state === 'given-up' || state === 'failing' ? 'care' : undefined}>{STATE_WORDS[state]}</span>;
}

/** Jobs of notifications show the notification first. */
function Subject({ of: { kind, subject } }: { of: Job }) {
  const { base } = useEnvironment();
  const [id] = subject.split(':');
  return /notification|fall-back/.test(kind) ? <Link to={`${base}/sent/${id}`}>{subject}</Link> : <code>{subject}</code>;
}

function OneJob({ job, onGone }: { job: Job; onGone: () => void }) {
  const { params } = useEnvironment();
  const at = { ...params, job: job.id };
  const retry = useChange(operations.jobs.retry);
  const drop = useChange(operations.jobs.drop);
  return (
    <Stack>
      <Facts
        of={[
          ['Job', <code key="k">{job.kind}</code>],
          ['About', <Subject key="s" of={job} />],
          ['State', <State key="t" of={job} />],
          ['Next attempt', job.state === 'given-up' ? 'none: it was given up' : <Moment key="n" at={job.runAt} />],
          ['Consecutive failures', String(job.attempts)],
          ['Last failed', job.failedAt ? <Moment key="f" at={job.failedAt} /> : 'never'],
          ['Last error', job.lastError ?? 'none'],
          ['Created', <Moment key="m" at={job.createdAt} />],
        ]}
      />
      <Trouble error={retry.error} />
      <Group>
        <Button loading={retry.isPending} disabled={job.state === 'running'} onClick={() => retry.mutate({ params: at })}>
          Retry now
        </Button>
        <ConfirmedButton
          label="Drop"
          verb="Drop"
          question="Drop this job?"
          consequence="Its work is not done. This cannot be undone."
          change={drop}
          onConfirm={() => drop.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}
