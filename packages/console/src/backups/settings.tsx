/** When backups are made, how long they are kept, and where. */
import { Checkbox, Group, NativeSelect, NumberInput, PasswordInput, Stack, Text, Textarea, TextInput } from '@mantine/core';
import { type BackupPlace, type BackupSettings, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';

export function BackupSettingsForm() {
  const { params } = useEnvironment();
  const settings = useCall(operations.backups.settings, { params });
  return <Loaded of={settings}>{(now) => <SettingsForm key={JSON.stringify(now)} now={now} />}</Loaded>;
}

const HOURS = Array.from({ length: 24 }, (_, hour) => ({ value: String(hour), label: `${String(hour).padStart(2, '0')}:00 UTC` }));

function SettingsForm({ now }: { now: BackupSettings }) {
  const { params } = useEnvironment();
  const form = useOperationForm(operations.backups.changeSettings, {
    initial: { every: now.schedule?.every ?? 'never', hour: String(now.schedule?.hour ?? 3), ...now.keep, prove: now.prove },
    input: ({ every, hour, days, weeks, months, prove }) => ({
      params,
      body: {
        schedule: every === 'never' ? null : { every: every as 'day' | 'week', hour: Number(hour) },
        keep: { days, weeks, months },
        prove,
      },
    }),
  });
  return (
    <div className="panel">
      <FormOf of={form} verb="Save">
        <Group align="end">
          <NativeSelect
            label="A backup is made"
            data={[
              { value: 'day', label: 'each day' },
              { value: 'week', label: 'each Sunday' },
              { value: 'never', label: 'by hand only' },
            ]}
            {...form.form.getInputProps('every')}
          />
          {form.form.values.every !== 'never' && <NativeSelect label="At" data={HOURS} {...form.form.getInputProps('hour')} />}
        </Group>
        <Text size="sm" mt="xs">
          Of those that the schedule makes, the newest of each day, week and month is kept. Those that somebody made stay until somebody
          deletes them.
        </Text>
        <Group align="end">
          <NumberInput label="Days" min={1} max={400} w="7rem" {...form.form.getInputProps('days')} />
          <NumberInput label="Weeks" min={0} max={200} w="7rem" {...form.form.getInputProps('weeks')} />
          <NumberInput label="Months" min={0} max={120} w="7rem" {...form.form.getInputProps('months')} />
        </Group>
        <Checkbox
          label="Prove each one by restoring it"
          description="Into a database that nobody sees, behind all calls; counts and digests are compared"
          {...form.form.getInputProps('prove', { type: 'checkbox' })}
        />
      </FormOf>
    </div>
  );
}

/** One place for all environments of the installation. */
export function PlaceOfBackups() {
  const { details } = useEnvironment();
  const place = useCall(operations.backups.place, {}, { enabled: details?.role === 'owner' });
  if (details?.role !== 'owner' || place.error) return null;
  return <Loaded of={place}>{(now) => <PlaceForm key={JSON.stringify(now)} now={now} />}</Loaded>;
}

function PlaceForm({ now }: { now: BackupPlace }) {
  const [kind, setKind] = useState(now.kind);
  const before = now.kind === 'sftp' ? now : null;
  const form = useOperationForm(operations.backups.changePlace, {
    initial: {
      host: before?.host ?? '',
      port: before?.port ?? 22,
      user: before?.user ?? '',
      path: before?.path ?? '',
      hostKey: before?.hostKey ?? '',
      password: '',
      privateKey: '',
    },
    input: ({ hostKey, password, privateKey, ...rest }) => ({
      body:
        kind === 'directory'
          ? { kind }
          : { kind, ...rest, ...(hostKey ? { hostKey } : {}), ...(password ? { password } : {}), ...(privateKey ? { privateKey } : {}) },
    }),
  });
  return (
    <div className="panel">
      <FormOf of={form} verb="Try it and save">
        <NativeSelect
          label="Backups of all environments are kept"
          w="24rem"
          value={kind}
          onChange={({ currentTarget }) => setKind(currentTarget.value as BackupPlace['kind'])}
          data={[
            { value: 'directory', label: 'in the directory of the settings, ORCHARD_BACKUPS' },
            { value: 'sftp', label: 'on another host, by SFTP' },
          ]}
        />
        {now.kind === 'directory' && kind === 'directory' && (
          <Text size="sm">
            <span className="mono">{now.path}</span>. If that is a disk of this machine, it burns with it.
          </Text>
        )}
        {kind === 'sftp' && (
          <Stack gap="xs">
            <Group align="start" grow>
              <TextInput label="Host" placeholder="keep.quillfell.example" required {...form.form.getInputProps('host')} />
              <NumberInput label="Port" min={1} max={65535} {...form.form.getInputProps('port')} />
              <TextInput label="User" required {...form.form.getInputProps('user')} />
              <TextInput label="Folder" placeholder="backups" {...form.form.getInputProps('path')} />
            </Group>
            <TextInput
              label="Host key"
              description="Save without it once, and the answer says which key the host shows"
              placeholder="SHA256:…"
              {...form.form.getInputProps('hostKey')}
            />
            <Group align="start" grow>
              <Textarea
                label="Private key"
                description={before ? 'In PEM; empty: the one there is' : 'In PEM, without a passphrase'}
                autosize
                minRows={2}
                maxRows={4}
                {...form.form.getInputProps('privateKey')}
              />
              <PasswordInput
                label="Or a password"
                description="Empty: the key"
                autoComplete="off"
                {...form.form.getInputProps('password')}
              />
            </Group>
          </Stack>
        )}
      </FormOf>
    </div>
  );
}
