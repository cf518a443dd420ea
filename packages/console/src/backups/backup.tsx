/** One backup: what it holds, whether it is proved, and restoring it. */
import { Button, Group, List, Stack, Table, Text, TextInput } from '@mantine/core';
import { type BackupDocument, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { bytes as bytesWords, counted } from '../parts/format.js';

const SOON_MS = 1_000;

/** Whether somebody could go back to it, in a few words. */
export function proofWords({ state, doing, problem, key, proof }: BackupDocument): { text: string; isTrouble: boolean } {
  if (state === 'failed') return { text: `failed: ${problem}`, isTrouble: true };
  if (!key.here) return { text: `its key ${key.mark} is not here`, isTrouble: true };
  if (state === 'running' || doing) return { text: doing ?? 'about to begin', isTrouble: false };
  if (!proof) return { text: 'not proved yet', isTrouble: false };
  return proof.whole ? { text: 'yes: restored and compared', isTrouble: false } : { text: 'NO: it is not whole', isTrouble: true };
}

export function OneBackup({ id, onGone }: { id: string; onGone: () => void }) {
  const { params, details } = useEnvironment();
  const at = { ...params, backup: id };
  const answer = useCall(operations.backups.read, { params: at }, { refetchInterval: SOON_MS });
  const prove = useChange(operations.backups.prove);
  const remove = useChange(operations.backups.remove);
  const [asks, setAsks] = useState(false);
  const isOwner = details?.role === 'owner';
  return (
    <Loaded of={answer}>
      {(backup) => {
        const words = proofWords(backup);
        const isUsable = backup.state === 'done' && backup.key.here;
        return (
          <Stack>
            <Text className={words.isTrouble ? 'care' : undefined} fw={600} role="status">
              {backup.proof?.whole && !backup.doing ? 'It would hold: it was restored, and everything compared.' : words.text}
            </Text>
            <Facts
              of={[
                ['Shows', <Moment key="at" at={backup.at ?? backup.askedAt} />],
                ['Made by', backup.by.kind === 'service' ? 'the schedule' : (backup.by.name ?? backup.by.id)],
                ['What it is for', backup.note || '—'],
                [
                  'Holds',
                  `${counted(backup.rows, 'row')} (${bytesWords(backup.bytes)}), ${counted(backup.files, 'file')} (${bytesWords(backup.fileBytes)})`,
                ],
                ['Stored for it', `${bytesWords(backup.newBytes)} that the backups before did not have`],
                ['Where', backup.place],
                ['Key', <code key="k">{backup.key.mark ?? '—'}</code>],
                ...(backup.proof
                  ? ([
                      ['Proof', <span key="p">{backup.proof.text}</span>],
                      ['Proved', <Moment key="pa" at={backup.proof.at} />],
                      ['The proof took', `${(backup.proof.durationMs / 1000).toFixed(1)} s`],
                    ] as [string, React.ReactNode][])
                  : []),
              ]}
            />
            <Trouble error={prove.error} />
            {isUsable && (
              <Group>
                {isOwner && !asks && <Button onClick={() => setAsks(true)}>Restore …</Button>}
                <Button
                  variant="default"
                  loading={prove.isPending}
                  disabled={backup.doing !== null}
                  onClick={() => prove.mutate({ params: at })}
                >
                  Prove it now
                </Button>
                {isOwner && (
                  <ConfirmedButton
                    label="Delete"
                    verb="Delete"
                    question="Delete this backup?"
                    consequence="It cannot be brought back. What other backups consist of stays."
                    change={remove}
                    onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
                  />
                )}
              </Group>
            )}
            {asks && <RestoreEnvironment backup={backup} />}
          </Stack>
        );
      }}
    </Loaded>
  );
}

/** Told first: what happens, what would be lost, and how long it takes. */
function RestoreEnvironment({ backup }: { backup: BackupDocument }) {
  const { params } = useEnvironment();
  const [, setTab] = useAddressState('tab');
  const [moment, setMoment] = useState('');
  const [into, setInto] = useState('');
  const query = moment ? { moment } : {};
  const at = { ...params, backup: backup.id };
  const plan = useCall(operations.backups.plan, { params: at, query });
  const restore = useChange(operations.backups.restore, [operations.backups]);
  const begin = () =>
    restore.mutate({ params: at, body: { ...query, ...(into ? { into } : {}) } }, { onSuccess: () => setTab('restores') });
  return (
    <section className="panel">
      <Group align="start" grow>
        <TextInput
          label="Records and users as of"
          description="In UTC; empty: as in the backup"
          placeholder={new Date(Date.parse(backup.at ?? backup.askedAt) + 3_600_000).toISOString()}
          value={moment}
          onChange={({ currentTarget }) => setMoment(currentTarget.value.trim())}
        />
        <TextInput
          label="As a new environment"
          description="Empty: in place of this one"
          placeholder="rehearsal"
          value={into}
          onChange={({ currentTarget }) => setInto(currentTarget.value.trim())}
        />
      </Group>
      <Loaded of={plan}>
        {({ lines, losses, tables, durationMs }) => (
          <Stack gap="sm" mt="md">
            {into ? (
              <Text>
                Everything goes into {params.app}/{into}, without keys; {params.app}/{params.environment} stays as it is. It takes about{' '}
                {Math.ceil(durationMs / 1000)} s.
              </Text>
            ) : (
              <>
                <Text fw={600}>What happens, in about {Math.ceil(durationMs / 1000)} s</Text>
                <List type="ordered" size="sm">
                  {lines.map((line) => (
                    <List.Item key={line}>{line}</List.Item>
                  ))}
                </List>
                <Text fw={600} className="care">
                  What is there now, and would not be afterwards
                </Text>
                <List size="sm">
                  {losses.map((loss) => (
                    <List.Item key={loss}>{loss}</List.Item>
                  ))}
                </List>
              </>
            )}
            <Differences of={tables} />
            <Trouble error={restore.error} />
            <Group>
              {into ? (
                <Button loading={restore.isPending} onClick={begin}>
                  Restore as {into}
                </Button>
              ) : (
                <ConfirmedButton
                  label="Restore in its place"
                  verb="Restore"
                  question={`Replace ${params.app}/${params.environment}?`}
                  consequence="The present environment is kept for three days: until then this can be undone."
                  change={restore}
                  onConfirm={begin}
                />
              )}
            </Group>
          </Stack>
        )}
      </Loaded>
    </section>
  );
}

function Differences({ of }: { of: { name: string; now: number | null; inBackup: number | null }[] }) {
  const differing = of.filter(({ now, inBackup }) => now !== inBackup);
  if (differing.length === 0) return <Text size="sm">There are as many records, users and files now as in the backup.</Text>;
  return (
    <Table>
      <Table.Thead>
        <Table.Tr>
          <Table.Th>Collection</Table.Th>
          <Table.Th ta="right">Now</Table.Th>
          <Table.Th ta="right">In the backup</Table.Th>
        </Table.Tr>
      </Table.Thead>
      <Table.Tbody>
        {differing.map(({ name, now, inBackup }) => (
          <Table.Tr key={name}>
            <Table.Td>{name}</Table.Td>
            <Table.Td ta="right" className="mono">
              {now?.toLocaleString('en') ?? '—'}
            </Table.Td>
            <Table.Td ta="right" className="mono">
              {inBackup?.toLocaleString('en') ?? '—'}
            </Table.Td>
          </Table.Tr>
        ))}
      </Table.Tbody>
    </Table>
  );
}
