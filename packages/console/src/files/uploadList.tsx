/** What is being uploaded, and how far it is. */
import { Button, Group, Progress, Stack, Text } from '@mantine/core';
import { useSyncExternalStore } from 'react';
import { bytes, counted } from '../parts/format.js';
import type { Upload, Uploads } from './uploads.js';

export function UploadList({ uploads }: { uploads: Uploads }) {
  const all = useSyncExternalStore(uploads.subscribe, uploads.all);
  if (all.length === 0) return null;
  const open = all.filter(({ state }) => state !== 'done');
  const sum = (of: 'size' | 'sent') => all.reduce((total, one) => total + one[of], 0);
  return (
    <section className="panel" aria-label="Uploads">
      <Group justify="space-between" mb="xs">
        <Text size="sm" role="status">
          {open.length === 0
            ? `Uploaded ${counted(all.length, 'file')}, ${bytes(sum('size'))}`
            : `Uploading ${counted(open.length, 'file')}: ${bytes(sum('sent'))} of ${bytes(sum('size'))}`}
        </Text>
        {open.length < all.length && (
          <Button size="compact-xs" variant="subtle" onClick={uploads.clear}>
            Clear
          </Button>
        )}
      </Group>
      <Stack gap={6}>
        {open.slice(0, 8).map((one) => (
          <OneUpload key={one.id} upload={one} uploads={uploads} />
        ))}
        {open.length > 8 && (
          <Text size="xs" c="dimmed">
            and {open.length - 8} more
          </Text>
        )}
      </Stack>
    </section>
  );
}

function OneUpload({ upload: { id, path, size, sent, state, trouble }, uploads }: { upload: Upload; uploads: Uploads }) {
  return (
    <div>
      <Group gap="sm" wrap="nowrap">
        <Text size="sm" truncate style={{ flex: 1 }} title={path}>
          {path}
        </Text>
        <Progress value={size === 0 ? 0 : (100 * sent) / size} w={180} aria-label={`${path}: ${bytes(sent)} of ${bytes(size)}`} />
        {state === 'going' && (
          <Button size="compact-xs" variant="default" onClick={() => uploads.pause(id)}>
            Pause
          </Button>
        )}
        {(state === 'paused' || state === 'failed') && (
          <Button size="compact-xs" variant="default" onClick={() => uploads.resume(id)}>
            {state === 'paused' ? 'Go on' : 'Retry'}
          </Button>
        )}
      </Group>
      {trouble && (
        <Text size="xs" className="care" role="alert">
          {trouble}
        </Text>
      )}
    </div>
  );
}
