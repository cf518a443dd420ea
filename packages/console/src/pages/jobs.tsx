/** Work that outlives a call: what waits, what fails, and what was given up. */
import { Button, Drawer, Group, Stack, Text } from '@mantine/core';
import { type Job, operations } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Empty, Facts, Moment, PageHead, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FromCode } from '../parts/fromCode.js';
import { Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { useAddressState, usePlace } from '../place.js';

const STATE_WORDS = { waiting: 'waits', running: 'runs', failing: 'fails', 'given-up': 'given up' } as const;
const PRESETS = [
  { label: 'Given up', filter: "state = 'given-up'" },
  { label: 'Failing', filter: "state = 'failing'" },
];

export function JobsPage() {
  const { params } = usePlace();
  const state = useListState('runAt');
  const [openId, setOpen] = useAddressState('open');
  const jobs = useCall(operations.jobs.list, { params, query: { ...state.query, limit: 100 } });
  const open = jobs.data?.items.find(({ id }) => id === openId);
  return (
    <>
      <PageHead
        title="Jobs"
        hint="Work that outlives a call, such as sending: one that fails is tried again, later each time, and given up in the end"
      >
        <FromCode
          same={{
            command: `orchard job list --app ${params.app} --env ${params.environment}`,
            method: 'GET',
            path: `/manage/v1/apps/${params.app}/environments/${params.environment}/jobs`,
          }}
        />
      </PageHead>
      <Listing
        label="Jobs"
        state={state}
        answer={jobs}
        idOf={idOf}
        openId={openId}
        onOpen={setOpen}
        presets={PRESETS}
        example="state = 'given-up' AND kind LIKE 'send%'"
        empty={
          <Empty title="Nothing is to be done">
            <Text>Jobs appear here while a notification is sent, or waits for its time. What is done leaves the list.</Text>
          </Empty>
        }
        columns={[
          { name: 'kind', label: 'Job', sortable: true, render: ({ kind }) => <span className="mono">{kind}</span> },
          { name: 'state', label: 'State', sortable: true, render: (job) => <State of={job} /> },
          {
            name: 'runAt',
            label: 'Next try',
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
      />
      <Drawer opened={Boolean(open)} onClose={() => setOpen(null)} position="right" size="lg" title="Job">
        {open && <OneJob job={open} onGone={() => setOpen(null)} />}
      </Drawer>
    </>
  );
}

const idOf = ({ id }: Job) => id;

function State({ of: { state } }: { of: Job }) {
  return <span className={state === 'given-up' || state === 'failing' ? 'care' : undefined}>{STATE_WORDS[state]}</span>;
}

/** Jobs of notifications name theirs first. */
function Subject({ of: { kind, subject } }: { of: Job }) {
  const { base } = usePlace();
  const [id] = subject.split(':');
  return /notification|fall-back/.test(kind) ? <Link to={`${base}/sent/${id}`}>{subject}</Link> : <code>{subject}</code>;
}

function OneJob({ job, onGone }: { job: Job; onGone: () => void }) {
  const { params } = usePlace();
  const at = { ...params, job: job.id };
  const retry = useChange(operations.jobs.retry, ['jobs.']);
  const drop = useChange(operations.jobs.drop, ['jobs.']);
  return (
    <Stack>
      <Facts
        of={[
          ['Job', <code key="k">{job.kind}</code>],
          ['About', <Subject key="s" of={job} />],
          ['State', <State key="t" of={job} />],
          ['Next try', job.state === 'given-up' ? 'none: it was given up' : <Moment key="n" at={job.runAt} />],
          ['Failures in a row', String(job.attempts)],
          ['Last failed', job.failedAt ? <Moment key="f" at={job.failedAt} /> : 'never'],
          ['Last error', job.lastError ?? 'none'],
          ['Made', <Moment key="m" at={job.createdAt} />],
        ]}
      />
      <Trouble error={retry.error} />
      <Group>
        <Button loading={retry.isPending} disabled={job.state === 'running'} onClick={() => retry.mutate({ params: at })}>
          Try it now
        </Button>
        <ConfirmedButton
          label="Drop"
          verb="Drop"
          question="Drop this job?"
          consequence="What it was to do is not done. This cannot be undone."
          change={drop}
          onConfirm={() => drop.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}
