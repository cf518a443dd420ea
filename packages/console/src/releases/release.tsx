/** One release: how far it is, what it changed, who decided, and the way back. */
import { Anchor, Button, Group, Progress, Stack, Text, Textarea } from '@mantine/core';
import { operations, type ReleaseDocument } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { counted } from '../parts/format.js';
import { Changes } from './changes.js';

export const STATE_WORDS: Record<ReleaseDocument['state'], string> = {
  proposed: 'waits for a second member',
  running: 'is being applied',
  done: 'done',
  returning: 'goes back',
  returned: 'went back: everything is as it was',
  refused: 'refused',
  failed: 'failed',
};
const UNDER_WAY = ['running', 'returning'];
const SOON_MS = 500;

export function OneRelease({ id, onBack }: { id: string; onBack?: () => void }) {
  const { params, base } = useEnvironment();
  const [isOver, setOver] = useState(false);
  const answer = useCall(operations.setups.release, { params: { ...params, release: id } }, isOver ? {} : { refetchInterval: SOON_MS });
  const state = answer.data?.state;
  if (state && !UNDER_WAY.includes(state) && state !== 'proposed' && !isOver) setOver(true);
  return (
    <Loaded of={answer}>
      {(release) => (
        <Stack>
          {onBack && (
            <Anchor component="button" onClick={onBack} ta="left">
              Back to the comparison
            </Anchor>
          )}
          {UNDER_WAY.includes(release.state) && (
            <div role="status">
              <Text>
                {release.done} of {release.total} steps done{release.doing && `: ${release.doing}`}
              </Text>
              <Progress value={(100 * release.done) / Math.max(1, release.total)} aria-label="Steps done" />
            </div>
          )}
          {release.problem && (
            <Text className="care" fw={600} role="alert">
              {release.problem}
            </Text>
          )}
          <Facts
            of={[
              ['State', STATE_WORDS[release.state]],
              ['By', release.by.name ?? release.by.id],
              ['At', <Moment key="at" at={release.at} />],
              ['What it is for', release.why || '—'],
              ['From', release.from ?? 'a setup file'],
              ...(release.decidedBy
                ? ([
                    ['Decided by', `${release.decidedBy.name ?? release.decidedBy.id}${release.decision ? `: ${release.decision}` : ''}`],
                  ] as [string, string][])
                : []),
            ]}
          />
          {release.state === 'proposed' && <Decision id={release.id} />}
          {release.state === 'done' && (
            <Group>
              <Button variant="default" component={Link} to={`${base}/releases?with=before:${release.id}`}>
                Undo …
              </Button>
              {release.from?.includes('/') && <Sample from={release.from} />}
            </Group>
          )}
          <Changes difference={release.difference} />
        </Stack>
      )}
    </Loaded>
  );
}

/** Some records to try things on. */
function Sample({ from }: { from: string }) {
  const { params } = useEnvironment();
  const take = useChange(operations.setups.sample, [operations.collections, operations.users]);
  const stored = take.data?.collections.reduce((sum, one) => sum + one.stored, 0) ?? 0;
  return (
    <>
      <Button variant="default" loading={take.isPending} onClick={() => take.mutate({ params, body: { from } })}>
        Take a sample of its records
      </Button>
      {take.data && (
        <Text size="sm" role="status">
          {counted(stored, 'record')} and {counted(take.data.users, 'made-up user')}. What says something of a person is made up.
        </Text>
      )}
      <Trouble error={take.error} />
    </>
  );
}

/** For a second member: approve it, or say why not. */
function Decision({ id }: { id: string }) {
  const { params } = useEnvironment();
  const [comment, setComment] = useState('');
  const decide = useChange(operations.setups.decide);
  const send = (approve: boolean) => decide.mutate({ params: { ...params, release: id }, body: { approve, comment } });
  return (
    <div className="panel">
      <Group align="end">
        <Textarea
          label="Comment"
          autosize
          minRows={1}
          w="24rem"
          value={comment}
          onChange={({ currentTarget }) => setComment(currentTarget.value)}
        />
        <Button onClick={() => send(true)} loading={decide.isPending}>
          Approve and apply
        </Button>
        <Button variant="default" onClick={() => send(false)} disabled={decide.isPending}>
          Refuse
        </Button>
      </Group>
      <Trouble error={decide.error} />
    </div>
  );
}
