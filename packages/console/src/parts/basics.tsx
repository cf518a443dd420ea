/** Small pieces that every page uses. */
import { Alert, Anchor, Button, CopyButton, Group, Skeleton, Stack, Text, Title, Tooltip } from '@mantine/core';
import { IconCheck, IconCopy } from '@tabler/icons-react';
import type { UseQueryResult } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { describeError } from '../api.js';

export function PageHead({ title, hint, children }: { title: ReactNode; hint?: ReactNode; children?: ReactNode }) {
  return (
    <Group justify="space-between" align="flex-end" mb="md" gap="sm">
      <div>
        <Title order={1}>{title}</Title>
        {hint && (
          <Text c="dimmed" size="sm">
            {hint}
          </Text>
        )}
      </div>
      {children && <Group gap="xs">{children}</Group>}
    </Group>
  );
}

export function Trouble({ error, children }: { error: unknown; children?: ReactNode }) {
  if (!error) return null;
  return (
    <Alert role="alert" color="persimmon" variant="light" title="That did not work" styles={{ title: { color: 'var(--care)' } }}>
      {describeError(error)}
      {children}
    </Alert>
  );
}

/** A part of the page that shows a response: a skeleton while it loads, the reason when it fails. */
export function Loaded<T>({ of, children }: { of: UseQueryResult<T>; children: (data: T) => ReactNode }) {
  if (of.error)
    return (
      <Trouble error={of.error}>
        {' '}
        <Anchor component="button" onClick={() => void of.refetch()}>
          Try again
        </Anchor>
      </Trouble>
    );
  if (of.data === undefined)
    return (
      <Stack gap="xs" aria-busy="true">
        <Skeleton h={18} />
        <Skeleton h={18} w="80%" />
        <Skeleton h={18} w="60%" />
      </Stack>
    );
  return <>{children(of.data)}</>;
}

export function Empty({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Stack gap="xs" py="xl" maw={640}>
      <Title order={2}>{title}</Title>
      {children}
    </Stack>
  );
}

export function Facts({ of }: { of: [name: string, value: ReactNode][] }) {
  return (
    <dl className="facts">
      {of.map(([name, value]) => (
        <FactPair key={name} name={name} value={value} />
      ))}
    </dl>
  );
}
function FactPair({ name, value }: { name: string; value: ReactNode }) {
  return (
    <>
      <dt>{name}</dt>
      <dd>
        {value ?? (
          <Text span c="dimmed" size="sm">
            none
          </Text>
        )}
      </dd>
    </>
  );
}

export function CopyText({ text, label }: { text: string; label: string }) {
  return (
    <CopyButton value={text} timeout={1500}>
      {({ copied, copy }) => (
        <Tooltip label={copied ? 'Copied' : label}>
          <Button
            size="compact-xs"
            variant="subtle"
            onClick={copy}
            aria-label={label}
            leftSection={copied ? <IconCheck size={14} /> : <IconCopy size={14} />}
          >
            {copied ? 'Copied' : 'Copy'}
          </Button>
        </Tooltip>
      )}
    </CopyButton>
  );
}

export function Code({ children, label = 'Copy this code' }: { children: string; label?: string }) {
  return (
    <div>
      <Group justify="flex-end">
        <CopyText text={children} label={label} />
      </Group>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keyboard */}
      <pre className="code" tabIndex={0}>
        {children}
      </pre>
    </div>
  );
}

const MOMENT = new Intl.DateTimeFormat('en-GB', { day: '2-digit', month: 'short', hour: '2-digit', minute: '2-digit', second: '2-digit' });
/** A time in the reader's time zone, with the exact time on hover. */
export function Moment({ at }: { at: string | null }) {
  return at ? (
    <time dateTime={at} title={at}>
      {MOMENT.format(new Date(at))}
    </time>
  ) : (
    <Text span c="dimmed" size="sm">
      never
    </Text>
  );
}
