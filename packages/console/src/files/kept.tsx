/** Deleted files, share links, and what files take. */
import { Anchor, Button, Group, NumberInput, Progress, Stack, Text, Title, VisuallyHidden } from '@mantine/core';
import { type FileSettings, type FileUse, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Empty, Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { bytes, count, counted } from '../parts/format.js';
import { ChartPanel } from '../parts/chart.js';
import { SERIES } from '../theme.js';

const own = operations.managedFiles;
const MEGABYTE = 1_000_000;

export function Deleted() {
  const { params } = useEnvironment();
  const deleted = useCall(own.deleted, { params, query: { limit: 200 } });
  const restore = useChange(own.restore, [operations.managedFiles]);
  return (
    <Loaded of={deleted}>
      {({ items }) =>
        items.length === 0 ? (
          <Empty title="No deleted files">
            <Text>What is deleted can be brought back from here for some days.</Text>
          </Empty>
        ) : (
          <section className="listing" aria-label="Deleted files">
            <Trouble error={restore.error} />
            <table>
              <thead>
                <tr>
                  <th scope="col">Path</th>
                  <th scope="col" className="right">
                    Size
                  </th>
                  <th scope="col">Deleted</th>
                  <th scope="col">By</th>
                  <th scope="col">Kept until</th>
                  <th scope="col">
                    <VisuallyHidden>Action</VisuallyHidden>
                  </th>
                </tr>
              </thead>
              <tbody>
                {items.map(({ id, path, size, deletedAt, deletedBy, until }) => (
                  <tr key={id}>
                    <td>{path}</td>
                    <td className="right mono">{bytes(size)}</td>
                    <td>
                      <Moment at={deletedAt} />
                    </td>
                    <td>{deletedBy.name ?? deletedBy.kind}</td>
                    <td>
                      <Moment at={until} />
                    </td>
                    <td>
                      <Button
                        size="compact-xs"
                        variant="default"
                        loading={restore.isPending && restore.variables?.params.id === id}
                        aria-label={`Bring ${path} back`}
                        onClick={() => restore.mutate({ params: { ...params, id }, body: {} })}
                      >
                        Bring back
                      </Button>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        )
      }
    </Loaded>
  );
}

export function ShareLinks() {
  const { params } = useEnvironment();
  const links = useCall(own.links, { params });
  const end = useChange(own.endLink, [operations.managedFiles]);
  return (
    <Loaded of={links}>
      {({ items }) =>
        items.length === 0 ? (
          <Empty title="No share links">
            <Text>Open a file and make one: whoever has it can download that file, until it ends.</Text>
          </Empty>
        ) : (
          <section className="listing" aria-label="Share links">
            <table>
              <thead>
                <tr>
                  <th scope="col">File</th>
                  <th scope="col">Ends</th>
                  <th scope="col" className="right">
                    Downloads
                  </th>
                  <th scope="col">Password</th>
                  <th scope="col">Made by</th>
                  <th scope="col">
                    <VisuallyHidden>Action</VisuallyHidden>
                  </th>
                </tr>
              </thead>
              <tbody>
                {items.map(({ id, path, until, used, count: most, password, createdBy }) => (
                  <tr key={id}>
                    <td>{path ?? 'the file is gone'}</td>
                    <td>
                      <Moment at={until} />
                    </td>
                    <td className="right mono">{most === null ? count(used) : `${count(used)} of ${count(most)}`}</td>
                    <td>{password ? 'yes' : 'no'}</td>
                    <td>{createdBy.name ?? createdBy.kind}</td>
                    <td>
                      <ConfirmedButton
                        label="End"
                        verb="End link"
                        size="xs"
                        question={`End this link to ${path ?? 'a file'}?`}
                        consequence="Whoever has it cannot download the file any more."
                        change={end}
                        onConfirm={(done) => end.mutate({ params: { ...params, id } }, { onSuccess: done })}
                      />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        )
      }
    </Loaded>
  );
}

export function Storage() {
  const { params } = useEnvironment();
  const use = useCall(own.use, { params });
  const settings = useCall(own.settings, { params });
  return (
    <Stack gap="lg">
      <Loaded of={use}>{(found) => <Use use={found} />}</Loaded>
      <Loaded of={settings}>{(found) => <Limits key={JSON.stringify(found)} settings={found} />}</Loaded>
    </Stack>
  );
}

function Use({ use: { files, bytes: size, storedBytes, folders, users, days, damaged } }: { use: FileUse }) {
  const { base } = useEnvironment();
  return (
    <>
      {damaged.length > 0 && (
        <section className="panel care" role="alert">
          <Title order={2} size="h3">
            {counted(damaged.length, 'file')} cannot be read
          </Title>
          <Text size="sm">
            The disk gave back something else than was stored. Storing the same content again, at any path, puts it right:{' '}
            {damaged
              .slice(0, 5)
              .map(({ path }) => path)
              .join(', ')}
          </Text>
        </section>
      )}
      <Facts
        of={[
          ['Files', count(files)],
          ['Their size', bytes(size)],
          ['On the disk', `${bytes(storedBytes)}, with former editions and deleted files; equal contents once`],
        ]}
      />
      {days.length > 1 && (
        <ChartPanel
          title="What files take"
          unit="MB"
          rows={days.map((one) => ({ at: `${one.day}T00:00:00.000Z`, size: Math.round(one.bytes / 100_000) / 10 }))}
          series={[{ name: 'size', label: 'Files', color: SERIES.viridian }]}
          stepMs={86_400_000}
          zone="UTC"
          height={160}
        />
      )}
      <Group align="flex-start" gap="xl">
        <Bars
          title="By folder"
          rows={folders.map((one) => ({ name: one.folder || '(root)', ...one }))}
          href={(name) => `${base}/files?folder=${name}`}
        />
        <Bars title="By owner" rows={users.map((one) => ({ name: one.userId ? `…${one.userId.slice(-8)}` : 'nobody', ...one }))} />
      </Group>
    </>
  );
}

function Bars({
  title,
  rows,
  href,
}: {
  title: string;
  rows: { name: string; files: number; bytes: number }[];
  href?: (name: string) => string;
}) {
  const most = Math.max(1, ...rows.map((row) => row.bytes));
  return (
    <section className="listing" aria-label={title} style={{ flex: 1, minWidth: 320 }}>
      <Title order={2} size="h3" mb="xs">
        {title}
      </Title>
      <table>
        <tbody>
          {rows.slice(0, 12).map(({ name, files, bytes: size }) => (
            <tr key={name}>
              <td>{href && name !== '(root)' ? <Anchor href={href(name)}>{name}</Anchor> : name}</td>
              <td className="right mono">{count(files)}</td>
              <td className="right mono">{bytes(size)}</td>
              <td style={{ width: 120 }}>
                <Progress value={(100 * size) / most} size="sm" aria-label={`${name}: ${bytes(size)}`} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

const megabytes = (value: number | null): number | string => (value === null ? '' : value / MEGABYTE);

function Limits({ settings }: { settings: FileSettings }) {
  const { params } = useEnvironment();
  const [values, setValues] = useState({
    totalBytes: megabytes(settings.totalBytes),
    userBytes: megabytes(settings.userBytes),
    fileBytes: megabytes(settings.fileBytes),
    keepDeletedDays: settings.keepDeletedDays as number | string,
    editions: settings.editions as number | string,
  });
  const change = useChange(own.changeSettings, [operations.managedFiles]);
  const field = (name: keyof typeof values, label: string, placeholder = '') => (
    <NumberInput
      label={label}
      min={1}
      w={170}
      placeholder={placeholder}
      value={values[name]}
      onChange={(value) => setValues({ ...values, [name]: value })}
    />
  );
  const inBytes = (value: number | string) => (value === '' ? null : Math.round(Number(value) * MEGABYTE));
  return (
    <section className="panel" aria-label="Limits">
      <Title order={2} size="h3" mb="xs">
        Limits
      </Title>
      <Group align="flex-end" gap="sm">
        {field('fileBytes', 'One file, MB')}
        {field('userBytes', 'Files of one user, MB', 'no limit')}
        {field('totalBytes', 'All files, MB', 'no limit')}
        {field('keepDeletedDays', 'Deleted kept, days')}
        {field('editions', 'Editions kept')}
        <Button
          variant="default"
          loading={change.isPending}
          onClick={() =>
            change.mutate({
              params,
              body: {
                totalBytes: inBytes(values.totalBytes),
                userBytes: inBytes(values.userBytes),
                fileBytes: inBytes(values.fileBytes) ?? settings.fileBytes,
                keepDeletedDays: Number(values.keepDeletedDays),
                editions: Number(values.editions),
              },
            })
          }
        >
          Save limits
        </Button>
      </Group>
      <Trouble error={change.error} />
    </section>
  );
}
