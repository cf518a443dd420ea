/** What was restored here, and the way back from it. */
import { List, Stack, Text } from '@mantine/core';
import { operations, type RestoreDocument } from '@orchard/contract';
import { useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Empty, Facts, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { ListBody } from '../parts/listPage.js';

const AS_IT_HAPPENS = 1_500;
const STATES: Record<RestoreDocument['state'], string> = { running: 'under way', done: 'done', failed: 'failed', undone: 'undone' };
const whatOf = ({ what, collection, into }: RestoreDocument) =>
  what === 'records' ? `records of ${collection}` : into ? `a new environment, ${into}` : 'the environment';

export function Restores() {
  return (
    <ListBody
      operation={operations.backups.restores}
      refetchInterval={AS_IT_HAPPENS}
      label="Restores"
      idOf={({ id }: RestoreDocument) => id}
      empty={
        <Empty title="Nothing was restored yet">
          <Text>Open a backup to restore the environment from it, or bring records back as they were at a moment.</Text>
        </Empty>
      }
      columns={[
        { name: 'at', label: 'At', render: ({ at }) => <Moment at={at} /> },
        { name: 'by', label: 'By', render: ({ by }) => by.name ?? by.id },
        { name: 'what', label: 'What', render: whatOf },
        {
          name: 'state',
          label: 'State',
          render: ({ state, doing }) => <span className={state === 'failed' ? 'care' : undefined}>{doing ?? STATES[state]}</span>,
        },
        { name: 'undo', label: 'Can be undone until', render: ({ undoUntil }) => (undoUntil ? <Moment at={undoUntil} /> : '—') },
      ]}
      drawer={{
        title: 'Restore',
        render: (id, _close, items) => {
          const restore = items.find((one) => one.id === id);
          return restore && <OneRestore restore={restore} />;
        },
      }}
    />
  );
}

function OneRestore({ restore }: { restore: RestoreDocument }) {
  const { params } = useEnvironment();
  const undo = useChange(operations.backups.undo, [operations.backups]);
  const { id, state, doing, problem, notes, rows, moment, by, at, endedAt, undoUntil } = restore;
  return (
    <Stack>
      <Text fw={600} role="status" className={state === 'failed' ? 'care' : undefined}>
        {problem ?? doing ?? STATES[state]}
      </Text>
      <Facts
        of={[
          ['What', whatOf(restore)],
          ['As of', moment ? <Moment key="m" at={moment} /> : 'the backup'],
          ['Rows', rows.toLocaleString('en')],
          ['By', by.name ?? by.id],
          ['Begun', <Moment key="at" at={at} />],
          ['Ended', endedAt ? <Moment key="end" at={endedAt} /> : 'not yet'],
        ]}
      />
      {notes.length > 0 && (
        <List size="sm">
          {notes.map((note) => (
            <List.Item key={note}>{note}</List.Item>
          ))}
        </List>
      )}
      <Trouble error={undo.error} />
      {undoUntil && (
        <ConfirmedButton
          label="Undo"
          verb="Put it back"
          question="Put back what was there before the restore?"
          consequence="What was written since the restore is lost."
          change={undo}
          onConfirm={() => undo.mutate({ params: { ...params, restore: id } })}
        />
      )}
    </Stack>
  );
}
