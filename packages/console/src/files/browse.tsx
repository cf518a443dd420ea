/** Folders and their files, as a table or as pictures. */
import { Anchor, Breadcrumbs, Button, Checkbox, FileButton, Group, Modal, SegmentedControl, Text, TextInput } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { addressOf, type FileDocument, type FolderDocument, operations } from '@orchard/contract';
import { kindOfField, SYSTEM_KINDS, type ValueKind } from '@orchard/core';
import { IconFolder, IconFolderPlus, IconUpload, IconWorld } from '@tabler/icons-react';
import { type DragEvent, type ReactNode, useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Moment, Trouble } from '../parts/basics.js';
import { FilterBar, type Names } from '../parts/filterBar.js';
import { bytes, counted } from '../parts/format.js';
import { type Column, Listing } from '../parts/listing.js';
import { useListState } from '../parts/listState.js';
import { UploadList } from './uploadList.js';
import { droppedFiles, Uploads } from './uploads.js';

const own = operations.managedFiles;
const PAGE_SIZE = 60;
/** As large as pictures are shown, in pixels of a dense screen. */
const THUMBNAIL = 320;
const FACTS: [string, ValueKind][] = [
  ['path', 'text'],
  ['folder', 'text'],
  ['name', 'text'],
  ['size', 'number'],
  ['type', 'text'],
  ['digest', 'text'],
  ['edition', 'number'],
  ['rulesFrom', 'text'],
];
const PRESETS = [
  { label: 'Pictures', filter: "type LIKE 'image/%'" },
  { label: 'Larger than 10 MB', filter: 'size > 10000000' },
];
/** Uploads go on while their page is left. */
const uploads = new Uploads();

/** The names that filters over files may use. */
export function useFileNames(): Names {
  const { params } = useEnvironment();
  const properties = useCall(own.properties, { params });
  return new Map([
    ...FACTS.map(([name, kind]): [string, { kind: ValueKind }] => [name, { kind }]),
    ...(properties.data?.items ?? []).map((field): [string, { kind: ValueKind }] => [field.name, { kind: kindOfField(field as never) }]),
    ...[...SYSTEM_KINDS].map(([name, kind]): [string, { kind: ValueKind }] => [name, { kind }]),
  ]);
}

export const contentAddress = (params: { app: string; environment: string }, path: string, query: object = {}): string =>
  addressOf(own.get, { params: { ...params, path }, query: query as never });

export function Browse({ openId, onOpen }: { openId: string; onOpen: (path: string) => void }) {
  const { params } = useEnvironment();
  const [folder, setFolder] = useAddressState('folder');
  const [view, setView] = useAddressState('view', 'table');
  const [deep, setDeep] = useAddressState('deep');
  const state = useListState(view === 'pictures' ? '-createdAt' : 'name');
  const names = useFileNames();
  const query = { ...state.query, limit: PAGE_SIZE, count: 'true', ...(deep ? { deep: 'true' } : {}) };
  const root = useCall(own.listRoot, { params, query }, { enabled: folder === '', refetchInterval: 10_000 });
  const inner = useCall(own.list, { params: { ...params, path: folder }, query }, { enabled: folder !== '', refetchInterval: 10_000 });
  const answer = folder === '' ? root : inner;
  const [over, setOver] = useState(false);
  const goTo = (path: string) => {
    state.setFilter(null);
    setFolder(path || null);
  };
  const drop = async (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    uploads.add(params, folder, await droppedFiles(event.dataTransfer.items));
  };
  const tools = (
    <Checkbox
      label="With folders below"
      checked={deep !== ''}
      onChange={({ currentTarget }) => setDeep(currentTarget.checked ? '1' : null)}
    />
  );
  return (
    <section
      aria-label="Folder"
      className={over ? 'dropping' : undefined}
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => void drop(event)}
    >
      <Group justify="space-between" mb="sm">
        <Trail folder={folder} onGo={goTo} />
        <Group gap="xs">
          <SegmentedControl
            size="xs"
            aria-label="View"
            value={view}
            onChange={setView}
            data={[
              { value: 'table', label: 'Table' },
              { value: 'pictures', label: 'Pictures' },
            ]}
          />
          <NewFolder folder={folder} onMade={goTo} />
          <FileButton
            multiple
            onChange={(files) =>
              uploads.add(
                params,
                folder,
                files.map((file) => ({ file, path: file.name })),
              )
            }
          >
            {(props) => (
              <Button size="xs" leftSection={<IconUpload size={14} />} {...props}>
                Upload
              </Button>
            )}
          </FileButton>
        </Group>
      </Group>
      <UploadList uploads={uploads} />
      <FolderList folders={answer.data?.folders ?? []} onGo={goTo} />
      {view === 'pictures' ? (
        <>
          <FilterBar state={state} presets={PRESETS} example="size > 100000" error={null} names={names}>
            {tools}
          </FilterBar>
          <Trouble error={answer.error} />
          <Pictures files={answer.data?.items ?? []} onOpen={onOpen} />
        </>
      ) : (
        <Listing<FileDocument>
          label="Files"
          state={state}
          answer={answer as never}
          idOf={({ path }) => path}
          openId={openId}
          onOpen={onOpen}
          example="size > 1000000 AND type LIKE 'image/%'"
          presets={PRESETS}
          names={names}
          tools={tools}
          empty={
            (answer.data?.folders.length ?? 0) > 0 ? (
              <Text c="dimmed" py="md" size="sm">
                No files in this folder itself.
              </Text>
            ) : (
              <Empty title="Nothing here yet">
                <Text>Drop files or whole folders here. Apps store them with PUT /app/v1/files/{folder || 'photos'}/col.jpg.</Text>
              </Empty>
            )
          }
          columns={columnsOf(deep !== '')}
        />
      )}
      {answer.data?.count !== undefined && answer.data.count > PAGE_SIZE && (
        <Text size="xs" c="dimmed" mt="xs">
          {counted(answer.data.count, 'file')} in all
        </Text>
      )}
    </section>
  );
}

const columnsOf = (deep: boolean): Column<FileDocument>[] => [
  { name: deep ? 'path' : 'name', label: deep ? 'Path' : 'Name', sortable: true, render: ({ name, path }) => (deep ? path : name) },
  { name: 'size', label: 'Size', sortable: true, right: true, render: ({ size }) => <span className="mono">{bytes(size)}</span> },
  { name: 'type', label: 'Type', sortable: true, render: ({ type }) => type },
  { name: 'edition', label: 'Edition', right: true, render: ({ edition }) => <span className="mono">{edition}</span> },
  { name: 'updatedAt', label: 'Changed', sortable: true, render: ({ updatedAt }) => <Moment at={updatedAt} /> },
  { name: 'ownerId', label: 'Owner', render: ({ ownerId }) => (ownerId ? <span className="mono">…{ownerId.slice(-8)}</span> : '–') },
];

function Trail({ folder, onGo }: { folder: string; onGo: (path: string) => void }) {
  const parts = folder === '' ? [] : folder.split('/');
  const step = (label: ReactNode, path: string) =>
    path === folder ? (
      <Text key={path} size="sm" fw={600} aria-current="location">
        {label}
      </Text>
    ) : (
      <Anchor key={path} component="button" size="sm" onClick={() => onGo(path)}>
        {label}
      </Anchor>
    );
  return (
    <nav aria-label="Folders above">
      <Breadcrumbs separatorMargin={6}>
        {step('All files', '')}
        {parts.map((part, i) => step(part, parts.slice(0, i + 1).join('/')))}
      </Breadcrumbs>
    </nav>
  );
}

function FolderList({ folders, onGo }: { folders: FolderDocument[]; onGo: (path: string) => void }) {
  if (folders.length === 0) return null;
  return (
    <ul className="folders" aria-label="Folders">
      {folders.map(({ path, name, files = 0, bytes: size = 0, public: open }) => (
        <li key={path}>
          <button type="button" onClick={() => onGo(path)}>
            <IconFolder size={18} aria-hidden />
            <span>
              <b>{name}</b>
              <small>
                {counted(files, 'file')} · {bytes(size)}
                {open && (
                  <>
                    {' '}
                    · <IconWorld size={12} aria-hidden /> public
                  </>
                )}
              </small>
            </span>
          </button>
        </li>
      ))}
    </ul>
  );
}

function Pictures({ files, onOpen }: { files: FileDocument[]; onOpen: (path: string) => void }) {
  const { params } = useEnvironment();
  return (
    <ul className="pictures" aria-label="Files as pictures">
      {files.map(({ path, name, type, size, edition }) => (
        <li key={path}>
          <button type="button" onClick={() => onOpen(path)}>
            {/^image\/(jpeg|png|webp|avif|gif)$/.test(type) ? (
              <img
                src={contentAddress(params, path, { edition, width: THUMBNAIL, height: THUMBNAIL, fit: 'cover', format: 'webp' })}
                alt=""
                loading="lazy"
              />
            ) : (
              <span className="kind mono">{name.includes('.') ? name.slice(name.lastIndexOf('.') + 1) : '–'}</span>
            )}
            <span className="caption">
              {name} <small>{bytes(size)}</small>
            </span>
          </button>
        </li>
      ))}
    </ul>
  );
}

function NewFolder({ folder, onMade }: { folder: string; onMade: (path: string) => void }) {
  const { params } = useEnvironment();
  const [opened, { open, close }] = useDisclosure();
  const [name, setName] = useState('');
  const make = useChange(own.make);
  const path = [folder, name.trim()].filter(Boolean).join('/');
  return (
    <>
      <Button size="xs" variant="default" leftSection={<IconFolderPlus size={14} />} onClick={open}>
        New folder
      </Button>
      <Modal opened={opened} onClose={close} title={folder ? `New folder in ${folder}` : 'New folder'}>
        <form
          onSubmit={(event) => {
            event.preventDefault();
            make.mutate(
              { params: { ...params, path } },
              {
                onSuccess: () => {
                  setName('');
                  close();
                  onMade(path);
                },
              },
            );
          }}
        >
          <TextInput label="Name" required data-autofocus value={name} onChange={({ currentTarget }) => setName(currentTarget.value)} />
          <Trouble error={make.error} />
          <Group justify="flex-end" mt="md">
            <Button type="submit" loading={make.isPending} disabled={!name.trim()}>
              Make
            </Button>
          </Group>
        </form>
      </Modal>
    </>
  );
}
