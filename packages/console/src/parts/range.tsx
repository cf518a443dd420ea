/** The period that a page shows, kept in the address. */
import { SegmentedControl } from '@mantine/core';
import { useMemo } from 'react';
import { useAddressState } from '../environment.js';

const SPANS = { '1h': 3_600_000, '24h': 86_400_000, '7d': 604_800_000, '30d': 2_592_000_000, '90d': 7_776_000_000 } as const;
const LABELS = { '1h': 'Last hour', '24h': '24 hours', '7d': '7 days', '30d': '30 days', '90d': '90 days' } as const;
/** The period of a report that shows the same. */
export const PERIOD_OF = { '1h': 'hour', '24h': 'day', '7d': 'week', '30d': 'four-weeks', '90d': 'quarter' } as const;
/** How often the period advances. */
const GRAIN_MS = 10_000;

export function useRange() {
  const [text, set] = useAddressState('range', '24h');
  const name = text in SPANS ? (text as keyof typeof SPANS) : '24h';
  const grain = Math.floor(Date.now() / GRAIN_MS);
  const query = useMemo(() => {
    const until = (grain + 1) * GRAIN_MS;
    return { from: new Date(until - SPANS[name]).toISOString(), until: new Date(until).toISOString() };
  }, [name, grain]);
  return { name, set, query, label: LABELS[name].toLowerCase() };
}

export function RangeControl({ range }: { range: ReturnType<typeof useRange> }) {
  return (
    <SegmentedControl
      size="xs"
      aria-label="Period"
      value={range.name}
      onChange={range.set}
      data={Object.entries(LABELS).map(([value, label]) => ({ value, label }))}
    />
  );
}
