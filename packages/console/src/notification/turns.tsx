/** The actions that a notification's state allows. */
import { Button } from '@mantine/core';
import { type Notification, operations } from '@orchard/contract';
import { Link, useNavigate } from 'react-router';
import { useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { useEnvironment } from '../environment.js';

/** Stop, resume, start or discard. */
export function Turns({ sent }: { sent: Notification }) {
  const { params, base } = useEnvironment();
  const navigate = useNavigate();
  const at = { params: { ...params, id: sent.id } };
  const start = useChange(operations.notifications.startManaged);
  const stop = useChange(operations.notifications.stopManaged);
  const resume = useChange(operations.notifications.resumeManaged);
  const remove = useChange(operations.notifications.remove);
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
            Edit
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
          Resume
        </Button>
      )}
      {waiting && (
        <ConfirmedButton
          label="Delete"
          verb="Delete"
          size="xs"
          question="Delete this notification?"
          consequence="It has not been sent."
          change={remove}
          onConfirm={() => remove.mutate(at, { onSuccess: () => navigate(`${base}/sent`) })}
        />
      )}
    </>
  );
}
