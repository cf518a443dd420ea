/** The fields of an objective's numbers: shares are written as per cent, windows in the unit that fits. */
import { Group, NumberInput, Select, TagsInput, TextInput } from '@mantine/core';
import type { Objective } from '@orchard/contract';
import { isShare } from '@orchard/core';

const WINDOWS = [
  ['1 min', 60_000],
  ['5 min', 300_000],
  ['15 min', 900_000],
  ['1 h', 3_600_000],
  ['6 h', 21_600_000],
  ['1 day', 86_400_000],
  ['7 days', 604_800_000],
  ['28 days', 2_419_200_000],
  ['30 days', 2_592_000_000],
] as const;

const MEASURES: { value: string; label: string; measure: Objective['measure'] }[] = [
  { value: 'within', label: 'Share answered within a time', measure: { of: 'within', ms: 500 } },
  { value: 'p95', label: 'p95 latency', measure: { of: 'latency', statistic: 'p95' } },
  { value: 'p99', label: 'p99 latency', measure: { of: 'latency', statistic: 'p99' } },
  { value: 'p50', label: 'Median latency', measure: { of: 'latency', statistic: 'p50' } },
  { value: 'mean', label: 'Mean latency', measure: { of: 'latency', statistic: 'mean' } },
  { value: 'failed', label: 'Share that failed', measure: { of: 'failed', as: 'share' } },
  { value: 'failures', label: 'Number that failed', measure: { of: 'failed', as: 'count' } },
  { value: 'refused', label: 'Share that was refused', measure: { of: 'refused' } },
  { value: 'delivered', label: 'Share accepted by the network', measure: { of: 'delivered' } },
  { value: 'backlog', label: 'Age of the oldest due job', measure: { of: 'backlog' } },
];
const measureName = ({ measure }: Objective): string =>
  measure.of === 'latency' ? measure.statistic : measure.of === 'failed' && measure.as === 'count' ? 'failures' : measure.of;

type Props = { of: Objective; onChange: (changes: Partial<Objective>) => void; errors: Record<string, string | undefined> };

export function LimitFields({ of, onChange, errors }: Props) {
  const share = isShare(of.measure);
  const scale = share ? 100 : 1;
  const suffix = share ? ' %' : of.measure.of === 'failed' ? '' : ' ms';
  const limit = (name: 'stressed' | 'failing') => (
    <NumberInput
      label={name === 'stressed' ? 'Stressed beyond' : 'Failing beyond'}
      w={150}
      min={0}
      decimalScale={share ? 3 : 0}
      thousandSeparator=","
      suffix={suffix}
      value={Number((of[name] * scale).toPrecision(9))}
      error={errors[name]}
      onChange={(value) => value !== '' && onChange({ [name]: Number((Number(value) / scale).toPrecision(12)) })}
    />
  );
  return (
    <>
      <Group align="flex-start" gap="sm">
        <Select
          label="Measure"
          w={240}
          allowDeselect={false}
          data={MEASURES.map(({ value, label }) => ({ value, label }))}
          value={measureName(of)}
          error={errors['measure.of']}
          onChange={(value) =>
            onChange({ measure: (MEASURES.find((one) => one.value === value) ?? MEASURES[0])?.measure as Objective['measure'] })
          }
        />
        {of.measure.of === 'within' && (
          <NumberInput
            label="Within"
            w={120}
            min={1}
            suffix=" ms"
            value={of.measure.ms}
            error={errors['measure.ms']}
            onChange={(value) => value !== '' && onChange({ measure: { of: 'within', ms: Number(value) } })}
          />
        )}
        <Select
          label="Window"
          w={120}
          allowDeselect={false}
          data={[
            ...new Map([
              ...WINDOWS.map(([label, ms]) => [String(ms), label] as const),
              ...(WINDOWS.some(([, ms]) => ms === of.windowMs) ? [] : [[String(of.windowMs), `${of.windowMs / 1000} s`] as const]),
            ]),
          ].map(([value, label]) => ({ value, label }))}
          value={String(of.windowMs)}
          error={errors.windowMs}
          onChange={(value) => onChange({ windowMs: Number(value) })}
        />
      </Group>
      <Group align="flex-start" gap="sm">
        {limit('stressed')}
        {limit('failing')}
        <NumberInput
          label="Least calls"
          description="Below, it says nothing"
          inputWrapperOrder={['label', 'input', 'description', 'error']}
          w={130}
          min={0}
          value={of.leastCalls}
          error={errors.leastCalls}
          onChange={(value) => value !== '' && onChange({ leastCalls: Number(value) })}
        />
      </Group>
      <TagsInput
        label="No trouble here"
        description="Problems that are left out, by name"
        placeholder="not-found"
        value={of.leaveOut}
        onChange={(leaveOut) => onChange({ leaveOut })}
      />
    </>
  );
}

const SUBJECTS = [
  { value: 'calls', label: 'All calls' },
  { value: 'client', label: 'A client' },
  { value: 'route', label: 'A route' },
  { value: 'gateway', label: 'Gateways' },
  { value: 'jobs', label: 'Jobs' },
  { value: 'function', label: 'Functions' },
];

export type KnownSubjects = { clients: string[]; routes: { method: string; route: string }[]; gateways: string[]; functions: string[] };

export function SubjectFields({
  of: { subject },
  known,
  onChange,
}: {
  of: Objective;
  known: KnownSubjects;
  onChange: (changes: Partial<Objective>) => void;
}) {
  const routeName = ({ method, route }: { method: string; route: string }) => `${method} ${route}`;
  const choose = (of: string | null) => {
    const [client = ''] = known.clients;
    const [route] = known.routes;
    const chosen: Record<string, Objective['subject']> = {
      calls: { of: 'calls' },
      client: { of: 'client', name: client },
      route: { of: 'route', ...(route ?? { method: 'GET', route: '/app/v1/data/{collection}' }) },
      gateway: { of: 'gateway' },
      jobs: { of: 'jobs' },
      function: { of: 'function' },
    };
    onChange({ subject: chosen[of ?? 'calls'] as Objective['subject'] });
  };
  return (
    <Group align="flex-start" gap="sm">
      <Select label="Of" w={140} allowDeselect={false} data={SUBJECTS} value={subject.of} onChange={choose} />
      {subject.of === 'function' && (
        <Select
          label="Function"
          w={200}
          clearable
          placeholder="all"
          data={[...new Set([...known.functions, ...(subject.name ? [subject.name] : [])])]}
          value={subject.name ?? null}
          onChange={(name) => onChange({ subject: { of: 'function', ...(name ? { name } : {}) } })}
        />
      )}
      {subject.of === 'client' && (
        <Select
          label="Client"
          w={200}
          allowDeselect={false}
          data={[...new Set([...known.clients, subject.name])]}
          value={subject.name}
          onChange={(name) => name && onChange({ subject: { of: 'client', name } })}
        />
      )}
      {subject.of === 'route' && (
        <>
          <Select
            label="Route"
            w={330}
            searchable
            allowDeselect={false}
            data={[...new Set([...known.routes.map(routeName), routeName(subject)])]}
            value={routeName(subject)}
            onChange={(value) => {
              const [method = '', route = ''] = (value ?? '').split(' ');
              if (route) onChange({ subject: { of: 'route', method, route } });
            }}
          />
          <TextInput
            label="Only collection or channel"
            w={180}
            value={subject.target ?? ''}
            onChange={({ currentTarget: { value } }) => {
              const { method, route } = subject;
              onChange({ subject: { of: 'route', method, route, ...(value ? { target: value } : {}) } });
            }}
          />
        </>
      )}
      {subject.of === 'gateway' && (
        <Select
          label="Gateway"
          w={200}
          placeholder="All gateways"
          clearable
          data={known.gateways}
          value={subject.name ?? null}
          onChange={(name) => onChange({ subject: { of: 'gateway', ...(name ? { name } : {}) } })}
        />
      )}
    </Group>
  );
}
