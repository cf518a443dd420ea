/** One file: what it shows, what is known of it, its editions, and who may see it. */
import { Anchor, Button, Group, JsonInput, NumberInput, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FileDocument, operations, type ShareLinkDocument } from '@orchard/contract';
import type { JsonObject } from '@orchard/core';
import { useEffect, useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Code, CopyText, Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { bytes } from '../parts/format.js';
import { contentAddress } from './browse.js';
import { TryFolderRule } from './tryFolderRule.js';

const own = operations.managedFiles;
const FACTS = new Set([
  ...['id', 'path', 'folder', 'name', 'size', 'type', 'digest', 'edition', 'version', 'rulesFrom'],
  ...['ownerId', 'createdAt', 'updatedAt'],
]);
/** As much of a text as is shown. */
const MOST_TEXT = 20_000;

export function OneFile({ path, onMoved, onGone }: { path: string; onMoved: (path: string) => void; onGone: () => void }) {
  const { params } = useEnvironment();
  const answer = useCall(own.describe, { params: { ...params, path } });
  return (
    <Loaded of={answer}>{(file) => <Shown key={`${file.id} ${file.version}`} file={file} onMoved={onMoved} onGone={onGone} />}</Loaded>
  );
}

function Shown({ file, onMoved, onGone }: { file: FileDocument; onMoved: (path: string) => void; onGone: () => void }) {
  const { params, base } = useEnvironment();
  const { path, name, size, type, edition, ownerId, digest, createdAt, updatedAt } = file;
  const at = { ...params, path };
  const remove = useChange(own.remove);
  return (
    <Stack gap="md">
      <Title order={2} style={{ overflowWrap: 'anywhere' }}>
        {name}
      </Title>
      <Preview file={file} />
      <Group gap="xs">
        <Button component="a" variant="default" size="xs" href={contentAddress(params, path, { download: 'true' })} download={name}>
          Download
        </Button>
        <CopyText text={path} label="Copy the path" />
        <ConfirmedButton
          label="Delete"
          verb="Delete"
          size="xs"
          question={`Delete ${name}?`}
          consequence="It can be brought back for some days, under Deleted."
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
      <Facts
        of={[
          ['Path', path],
          ['Size', size < 1000 ? bytes(size) : `${bytes(size)} (${size.toLocaleString('en-GB')} bytes)`],
          ['Type', type],
          ['Edition', String(edition)],
          [
            'Owner',
            ownerId && (
              <Anchor key="o" href={`${base}/users?open=${ownerId}`}>
                …{ownerId.slice(-8)}
              </Anchor>
            ),
          ],
          ['Stored', <Moment key="c" at={createdAt} />],
          ['Changed', <Moment key="u" at={updatedAt} />],
          [
            'SHA-256',
            <span key="d" className="mono" style={{ overflowWrap: 'anywhere', fontSize: '.75rem' }}>
              {digest}
            </span>,
          ],
        ]}
      />
      <Properties file={file} onMoved={onMoved} />
      <Editions file={file} />
      <Share path={path} />
      <WhoMay file={file} />
    </Stack>
  );
}

function Preview({ file: { path, type, edition, size, name } }: { file: FileDocument }) {
  const { params } = useEnvironment();
  const address = contentAddress(params, path, { edition });
  if (/^image\/(jpeg|png|webp|avif|gif)$/.test(type))
    return <img className="preview" src={contentAddress(params, path, { edition, width: 960, height: 720, format: 'webp' })} alt={name} />;
  // biome-ignore lint/a11y/useMediaCaption: files of a team come without captions
  if (type.startsWith('video/')) return <video className="preview" src={address} controls preload="metadata" aria-label={name} />;
  // biome-ignore lint/a11y/useMediaCaption: as above
  if (type.startsWith('audio/')) return <audio src={address} controls preload="metadata" aria-label={name} />;
  if (type.startsWith('text/') || /json|xml|yaml|svg/.test(type)) return <TextPreview address={address} size={size} />;
  if (type === 'application/pdf')
    return (
      <Anchor href={address} target="_blank" rel="noopener" size="sm">
        Open the PDF in a tab of its own
      </Anchor>
    );
  return (
    <Text size="sm" c="dimmed">
      There is no preview of {type}.
    </Text>
  );
}

function TextPreview({ address, size }: { address: string; size: number }) {
  const [text, setText] = useState<string | null>(null);
  useEffect(() => {
    const leaving = new AbortController();
    fetch(address, { headers: size > MOST_TEXT ? { Range: `bytes=0-${MOST_TEXT - 1}` } : {}, signal: leaving.signal })
      .then((response) => response.text())
      .then(setText, () => undefined);
    return () => leaving.abort();
  }, [address, size]);
  if (text === null) return null;
  return <Code label="Copy this text">{size > MOST_TEXT ? `${text}\n…` : text}</Code>;
}

const propertiesOf = (file: FileDocument): JsonObject =>
  Object.fromEntries(Object.entries(file).filter(([name]) => !FACTS.has(name))) as JsonObject;

function Properties({ file, onMoved }: { file: FileDocument; onMoved: (path: string) => void }) {
  const { params } = useEnvironment();
  const before = JSON.stringify(propertiesOf(file), null, 2);
  const [path, setPath] = useState(file.path);
  const [text, setText] = useState(before);
  const change = useChange(own.change);
  const changed = path !== file.path || text !== before;
  function save(): void {
    const properties = text === before ? {} : (JSON.parse(text || '{}') as JsonObject);
    // The file is gone from its former path before the answer is here, and this form with it: a promise outlives it.
    void change
      .mutateAsync({ params: { ...params, path: file.path }, body: { ...properties, ...(path === file.path ? {} : { path }) } })
      .then(
        (moved) => onMoved(moved.path),
        () => undefined,
      );
  }
  return (
    <section className="panel" aria-label="Place and properties">
      <Stack gap="xs">
        <TextInput
          label="Path"
          value={path}
          onChange={({ currentTarget }) => setPath(currentTarget.value)}
          classNames={{ input: 'mono' }}
        />
        <JsonInput
          label="Properties"
          value={text}
          onChange={setText}
          autosize
          minRows={2}
          maxRows={12}
          validationError="This is no JSON."
          classNames={{ input: 'mono' }}
        />
        <Trouble error={change.error} />
        {changed && (
          <Group gap="xs">
            <Button size="xs" onClick={save} loading={change.isPending}>
              Save
            </Button>
            <Button
              size="xs"
              variant="subtle"
              onClick={() => {
                setPath(file.path);
                setText(before);
              }}
            >
              Discard changes
            </Button>
          </Group>
        )}
      </Stack>
    </section>
  );
}

function Editions({ file: { path, edition } }: { file: FileDocument }) {
  const { params } = useEnvironment();
  const answer = useCall(own.editions, { params: { ...params, path } }, { enabled: edition > 1 });
  if (edition === 1) return null;
  return (
    <section className="panel" aria-label="Editions">
      <Title order={3} mb="xs">
        Editions
      </Title>
      <Loaded of={answer}>
        {({ items }) => (
          <ul className="plain">
            {items.map((one) => (
              <li key={one.edition}>
                <Anchor size="sm" href={contentAddress(params, path, { edition: one.edition, download: 'true' })}>
                  {one.edition}
                </Anchor>{' '}
                <Text span size="sm">
                  {bytes(one.size)}, {one.type}, <Moment at={one.at} />, {one.by.name ?? one.by.kind}
                </Text>
              </li>
            ))}
          </ul>
        )}
      </Loaded>
    </section>
  );
}

function Share({ path }: { path: string }) {
  const { params } = useEnvironment();
  const [days, setDays] = useState<number | string>(7);
  const [times, setTimes] = useState<number | string>('');
  const [password, setPassword] = useState('');
  const [link, setLink] = useState<(ShareLinkDocument & { address: string }) | null>(null);
  const share = useChange(own.share);
  const make = () =>
    share.mutate(
      {
        params,
        body: {
          path,
          until: new Date(Date.now() + Number(days) * 86_400_000).toISOString(),
          ...(times === '' ? {} : { count: Number(times) }),
          ...(password ? { password } : {}),
        },
      },
      { onSuccess: setLink },
    );
  return (
    <section className="panel" aria-label="Share">
      <Title order={3} mb="xs">
        Share
      </Title>
      <Group gap="xs" align="flex-end">
        <NumberInput label="Days" min={1} max={365} w={80} value={days} onChange={setDays} />
        <NumberInput label="Downloads" min={1} placeholder="any" w={110} value={times} onChange={setTimes} />
        <PasswordInput
          label="Password"
          placeholder="none"
          w={150}
          value={password}
          onChange={({ currentTarget }) => setPassword(currentTarget.value)}
        />
        <Button variant="default" loading={share.isPending} onClick={make}>
          Make link
        </Button>
      </Group>
      <Trouble error={share.error} />
      {link && (
        <>
          <Code label="Copy the link">{link.address}</Code>
          <Text size="xs" c="dimmed">
            It is not shown again. Whoever has it can download the file.
          </Text>
        </>
      )}
    </section>
  );
}

function WhoMay({ file }: { file: FileDocument }) {
  const { params, base } = useEnvironment();
  const settings = useCall(own.folderSettings, { params, query: { path: file.folder } });
  const [found] = settings.data?.items ?? [];
  return (
    <section className="panel" aria-label="Who may see this">
      <Title order={3} mb="xs">
        Who may see this
      </Title>
      {found && (
        <Text size="sm" mb="xs">
          The rules of <Anchor href={`${base}/files?tab=rules`}>{file.rulesFrom || 'the root'}</Anchor> hold: read{' '}
          <span className="mono">{found.inForce.read}</span>, change <span className="mono">{found.inForce.update}</span>.
        </Text>
      )}
      <TryFolderRule file={file.path} />
    </section>
  );
}
