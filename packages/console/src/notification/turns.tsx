/** What can be done with a notification in its state. */
import { Button } from '@mantine/core';
import { type Notification, operations } from '@orchard/contract';
import { Link, useNavigate } from 'react-router';
import { useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { usePlace } from '../place.js';

/** Stop, resume, start, throw away: whatever its state allows. */
export function Turns({ sent }: { sent: Notification }) {
  const { params, base } = usePlace();
  const navigate = useNavigate();
  const at = { params: { ...params, id: sent.id } };
  const start = useChange(operations.notifications.startManaged, ['notifications.']);
  const stop = useChange(operations.notifications.stopManaged, ['notifications.']);
  const resume = useChange(operations.notifications.resumeManaged, ['notifications.']);
  const remove = useChange(operations.notifications.remove, ['notifications.']);
  const waiting = sent.state === 'draft' || sent.state === 'scheduled';
  return (
    <>
      <Trouble error={start.error ?? stop.error ?? resume.error} />
      {waiting && (
        <>
          <Button size="xs" loading={start.isPending} onClick={() => start.mutate(at)}>
            Send now
          </Button>
          <Button size="xs" variant="default" component={Link} to={`${base}/compose?kept=${sent.id}`}>
            Write on
          </Button>
        </>
      )}
      {(sent.state === 'sending' || sent.state === 'scheduled') && (
        <Button size="xs" variant="default" loading={stop.isPending} onClick={() => stop.mutate(at)}>
          Stop
        </Button>
      )}
      {sent.state === 'stopped' && (
        <Button size="xs" loading={resume.isPending} onClick={() => resume.mutate(at)}>
          Go on
        </Button>
      )}
      {waiting && (
        <ConfirmedButton
          label="Throw away"
          verb="Throw away"
          size="xs"
          question="Throw this notification away?"
          consequence="It was not sent to anybody, and will not be."
          change={remove}
          onConfirm={() => remove.mutate(at, { onSuccess: () => navigate(`${base}/sent`) })}
        />
      )}
    </>
  );
}
