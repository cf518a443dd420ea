/** Where a function stands: an endpoint's address, what a hook stands on, a schedule's clock. */
import { Group, MultiSelect, NativeSelect, SegmentedControl, TagsInput, TextInput } from '@mantine/core';
import { ENDPOINT_METHODS, type FunctionShown, HOOK_ACTIONS, HOOK_SUBJECTS, type HookOn, type NewFunctionVersion } from '@orchard/contract';

export type Definition = {
  kind: FunctionShown['kind'];
  path: string;
  methods: NonNullable<FunctionShown['methods']>;
  callers: NonNullable<FunctionShown['callers']>;
  on: HookOn;
  clock: string;
  zone: string;
  missed: NonNullable<FunctionShown['missed']>;
  rights: FunctionShown['rights'];
  hosts: string[];
};

export const definitionOf = (shown: FunctionShown | null, collection: string): Definition => ({
  kind: shown?.kind ?? 'endpoint',
  path: shown?.path ?? '',
  methods: shown?.methods ?? ['GET'],
  callers: shown?.callers ?? 'signed-in',
  on: shown?.on ?? { moment: 'before', actions: ['create'], collection },
  clock: shown?.clock ?? '0 6 * * *',
  zone: shown?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone,
  missed: shown?.missed ?? 'once',
  rights: shown?.rights ?? 'caller',
  hosts: shown?.hosts ?? [],
});

/** The members that belong to the kind. */
export function bodyOf(
  { kind, path, methods, callers, on, clock, zone, missed, rights, hosts }: Definition,
  name: string,
): Omit<NewFunctionVersion, 'use'> {
  const shared = { kind, rights, hosts };
  if (kind === 'hook') return { ...shared, on };
  if (kind === 'schedule') return { ...shared, clock, zone, missed };
  return { ...shared, path: path || name, methods, callers };
}

type Set = (change: Partial<Definition>) => void;

export function DefinitionFields({ of, set, collections, isNew }: { of: Definition; set: Set; collections: string[]; isNew: boolean }) {
  return (
    <>
      {isNew && (
        <SegmentedControl
          aria-label="Kind"
          data={[
            { value: 'endpoint', label: 'Endpoint: answers a call' },
            { value: 'hook', label: 'Hook: before or after an action' },
            { value: 'schedule', label: 'Schedule: by the clock' },
          ]}
          value={of.kind}
          onChange={(kind) => set({ kind: kind as Definition['kind'] })}
        />
      )}
      {of.kind === 'endpoint' && <EndpointFields of={of} set={set} />}
      {of.kind === 'hook' && <HookFields on={of.on} set={(on) => set({ on: { ...of.on, ...on } as HookOn })} collections={collections} />}
      {of.kind === 'schedule' && <ScheduleFields of={of} set={set} />}
      <Group grow align="flex-start">
        {of.kind !== 'schedule' && (
          <NativeSelect
            label="Its rights"
            data={[
              { value: 'caller', label: of.kind === 'hook' ? 'those of whoever acts' : 'those of whoever calls it' },
              { value: 'own', label: 'its own: no rules apply' },
            ]}
            value={of.rights}
            onChange={({ currentTarget }) => set({ rights: currentTarget.value as Definition['rights'] })}
          />
        )}
        <TagsInput label="Hosts it may fetch from" placeholder="weather.example" value={of.hosts} onChange={(hosts) => set({ hosts })} />
      </Group>
    </>
  );
}

function EndpointFields({ of, set }: { of: Definition; set: Set }) {
  return (
    <Group grow align="flex-start">
      <TextInput
        label="Path below /app/v1/endpoints/"
        placeholder="huts/{hut}/price"
        classNames={{ input: 'mono' }}
        value={of.path}
        onChange={({ currentTarget }) => set({ path: currentTarget.value })}
      />
      <MultiSelect
        label="Methods"
        data={[...ENDPOINT_METHODS]}
        value={of.methods}
        onChange={(methods) => set({ methods: methods as never })}
      />
      <NativeSelect
        label="Who may call it"
        data={[
          { value: 'signed-in', label: 'signed-in users and servers' },
          { value: 'anyone', label: 'anyone with a client key' },
          { value: 'servers', label: 'servers alone' },
        ]}
        value={of.callers}
        onChange={({ currentTarget }) => set({ callers: currentTarget.value as Definition['callers'] })}
      />
    </Group>
  );
}

function HookFields({ on, set, collections }: { on: HookOn; set: (change: Partial<HookOn>) => void; collections: string[] }) {
  const subject = on.subject ?? on.collection ?? '';
  const choose = (value: string) =>
    (HOOK_SUBJECTS as readonly string[]).includes(value) && !collections.includes(value)
      ? set({ subject: value as HookOn['subject'], collection: undefined })
      : set({ collection: value, subject: undefined });
  return (
    <Group grow align="flex-start">
      <NativeSelect
        label="Runs"
        data={[
          { value: 'before', label: 'before: may change or refuse' },
          { value: 'after', label: 'after: as a job, retried' },
          { value: 'answer', label: 'on answers: reshapes them' },
        ]}
        value={on.moment}
        onChange={({ currentTarget }) => {
          const moment = currentTarget.value as HookOn['moment'];
          set({ moment, actions: moment === 'answer' ? ['read', 'list'] : ['create'] });
        }}
      />
      <MultiSelect
        label="Actions"
        data={[...HOOK_ACTIONS]}
        value={on.actions}
        onChange={(actions) => set({ actions: actions as HookOn['actions'] })}
      />
      <NativeSelect
        label="Of"
        data={[
          { group: 'Records of', items: collections },
          { group: 'Other', items: [...HOOK_SUBJECTS] },
        ]}
        value={subject}
        onChange={({ currentTarget }) => choose(currentTarget.value)}
      />
    </Group>
  );
}

function ScheduleFields({ of, set }: { of: Definition; set: Set }) {
  return (
    <Group grow align="flex-start">
      <TextInput
        label="Clock"
        description="Minute, hour, day, month, day of the week"
        classNames={{ input: 'mono' }}
        value={of.clock}
        onChange={({ currentTarget }) => set({ clock: currentTarget.value })}
      />
      <TextInput
        label="Time zone"
        description="Where the clock hangs"
        value={of.zone}
        onChange={({ currentTarget }) => set({ zone: currentTarget.value })}
      />
      <NativeSelect
        label="Missed times"
        description="While no instance was up"
        data={[
          { value: 'once', label: 'run once for all' },
          { value: 'each', label: 'run for each' },
          { value: 'skip', label: 'skip' },
        ]}
        value={of.missed}
        onChange={({ currentTarget }) => set({ missed: currentTarget.value as Definition['missed'] })}
      />
    </Group>
  );
}
