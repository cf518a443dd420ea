/** Backups: what there is to go back to, whether it would hold, and going back. */
import { Anchor, Button, Group, Tabs, Text, TextInput } from '@mantine/core';
import { type BackupDocument, operations } from '@orchard/contract';
import { useState } from 'react';
import { OFTEN, useCall, useChange } from '../api.js';
import { OneBackup, proofWords } from '../backups/backup.js';
import { RecordsBack } from '../backups/recordsBack.js';
import { Restores } from '../backups/restores.js';
import { BackupSettingsForm, PlaceOfBackups } from '../backups/settings.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Moment, PageHead, Trouble } from '../parts/basics.js';
import { bytes as bytesWords, counted } from '../parts/format.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { ListBody } from '../parts/listPage.js';

export function BackupsPage() {
  const { params } = useEnvironment();
  const [tab, setTab] = useAddressState('tab', 'backups');
  return (
    <>
      <PageHead title="Backups" hint="What this environment can go back to, and whether that would hold">
        <FromCode
          calls={[
            coded(
              operations.backups.make,
              { params, body: { note: 'before the season' } },
              "orchard backup make --note 'before the season'",
            ),
            coded(operations.backups.list, { params }),
            coded(
              operations.backups.restoreRecords,
              { params, body: { collection: 'huts', moment: new Date(0).toISOString() } },
              'orchard backup restore --collection huts --moment 2026-05-01T09:30:00.000Z',
            ),
          ]}
        />
      </PageHead>
      <Tabs value={tab} onChange={setTab} keepMounted={false}>
        <Tabs.List>
          <Tabs.Tab value="backups">Backups</Tabs.Tab>
          <Tabs.Tab value="records">Bring records back</Tabs.Tab>
          <Tabs.Tab value="restores">Restores</Tabs.Tab>
          <Tabs.Tab value="settings">Settings</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="backups" pt="md">
          <HowItStands onSettings={() => setTab('settings')} />
          <MakeBackup />
          <AllBackups />
        </Tabs.Panel>
        <Tabs.Panel value="records" pt="md">
          <RecordsBack onBegun={() => setTab('restores')} />
        </Tabs.Panel>
        <Tabs.Panel value="restores" pt="md">
          <Restores />
        </Tabs.Panel>
        <Tabs.Panel value="settings" pt="md">
          <BackupSettingsForm />
          <PlaceOfBackups />
        </Tabs.Panel>
      </Tabs>
    </>
  );
}

/** How much would be lost if the machine burnt now, where backups are, and where their key is. */
function HowItStands({ onSettings }: { onSettings: () => void }) {
  const { params } = useEnvironment();
  const answer = useCall(operations.backups.list, { params }, OFTEN);
  if (!answer.data) return null;
  const { items, place, key, nextAt, problem } = answer.data;
  const last = items.find(({ state }) => state === 'done');
  return (
    <div className="panel">
      {problem && (
        <Text className="care" fw={600} role="alert">
          {problem}
        </Text>
      )}
      <Text>
        {last ? (
          <>
            The last backup shows <Moment at={last.at} />. If this machine burnt now, everything after that would be lost.
          </>
        ) : (
          <strong>There is no backup yet.</strong>
        )}{' '}
        {nextAt ? (
          <>
            The next one is made <Moment at={nextAt} />.
          </>
        ) : (
          'None is made by itself.'
        )}{' '}
        <Anchor component="button" onClick={onSettings}>
          Change
        </Anchor>
      </Text>
      <Text size="sm" c="dimmed">
        They go to {place}. Their key is <span className="mono">{key.mark}</span> from <span className="mono">{key.whereabouts}</span>: keep
        a copy of it elsewhere. Without it nobody can read a backup, and nobody can make it anew.
      </Text>
    </div>
  );
}

function MakeBackup() {
  const { params } = useEnvironment();
  const [note, setNote] = useState('');
  const make = useChange(operations.backups.make);
  return (
    <>
      <Group align="end" my="md">
        <TextInput
          label="What it is for"
          placeholder="before the season"
          w="20rem"
          value={note}
          onChange={({ currentTarget }) => setNote(currentTarget.value)}
        />
        <Button loading={make.isPending} onClick={() => make.mutate({ params, body: { note } }, { onSuccess: () => setNote('') })}>
          Make a backup now
        </Button>
      </Group>
      <Trouble error={make.error} />
    </>
  );
}

const AS_IT_HAPPENS = 1_500;

function AllBackups() {
  return (
    <ListBody
      operation={operations.backups.list}
      refetchInterval={AS_IT_HAPPENS}
      label="Backups"
      idOf={({ id }: BackupDocument) => id}
      empty={
        <Empty title="No backup yet">
          <Text>One is made each night. Make one now before you change something that you may want back.</Text>
        </Empty>
      }
      columns={[
        { name: 'at', label: 'Shows', render: ({ at, askedAt }) => <Moment at={at ?? askedAt} /> },
        { name: 'by', label: 'Made by', render: ({ by }) => (by.kind === 'service' ? 'the schedule' : (by.name ?? by.id)) },
        { name: 'note', label: 'What it is for', render: ({ note }) => note || '—' },
        {
          name: 'rows',
          label: 'Holds',
          render: ({ state, rows, files, bytes, fileBytes }) =>
            state === 'done' ? `${counted(rows, 'row')}, ${counted(files, 'file')}, ${bytesWords(bytes + fileBytes)}` : '—',
        },
        {
          name: 'newBytes',
          label: 'Stored for it',
          right: true,
          render: ({ newBytes }) => <span className="mono">{bytesWords(newBytes)}</span>,
        },
        {
          name: 'proof',
          label: 'Would it hold',
          render: (backup) => {
            const { text, isTrouble } = proofWords(backup);
            return <span className={isTrouble ? 'care' : undefined}>{text}</span>;
          },
        },
      ]}
      drawer={{ title: 'Backup', size: 'xl', render: (id, close) => <OneBackup id={id} onGone={close} /> }}
    />
  );
}
