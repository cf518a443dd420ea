/** Funnels: how many people get through a list of steps, and why the others stop. */
import { ActionIcon, Anchor, Drawer, Group, MultiSelect, NativeSelect, SimpleGrid, Stack, Text, Title, Tooltip } from '@mantine/core';
import { type FunnelReply, operations } from '@orchard/contract';
import { IconPlus, IconX } from '@tabler/icons-react';
import { useState } from 'react';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Across } from '../insight/across.js';
import { type FunnelBody, FunnelWhy } from '../insight/funnelWhy.js';
import { groupWords, NarrowBar, percent, PeriodControl, span, stepMsOf, SaveQuestion, useQuestion } from '../insight/question.js';
import { Empty, Loaded, PageHead } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { count, counted } from '../parts/format.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { TableHead } from '../parts/tableHead.js';
import { SERIES } from '../theme.js';

const own = operations.insight;
const HOUR_MS = 3_600_000;
const WINDOWS = {
  '10min': [600_000, '10 minutes'],
  '1h': [HOUR_MS, '1 hour'],
  '1d': [24 * HOUR_MS, '1 day'],
  '7d': [168 * HOUR_MS, '7 days'],
  '30d': [720 * HOUR_MS, '30 days'],
} as const;
const ORDERS = { ordered: 'in this order', strict: 'in this order, none between', any: 'in any order' } as const;

const stepsIn = (text: string): string[] => (text ? text.split('>') : []);

export function FunnelsPage() {
  const { params } = useEnvironment();
  const question = useQuestion();
  const [text, setText] = useAddressState('steps');
  const [window, setWindow] = useAddressState('window', '1d');
  const [order, setOrder] = useAddressState('order', 'ordered');
  const [without, setWithout] = useAddressState('without');
  const [unit, setUnit] = useAddressState('count', 'people');
  const steps = stepsIn(text);
  // The address is what counts: two quick changes must both be in it.
  const change = (how: (steps: string[]) => string[]) =>
    setText(how(stepsIn(new URLSearchParams(globalThis.location.search).get('steps') ?? '')).join('>') || null);
  const [windowMs] = WINDOWS[window as keyof typeof WINDOWS] ?? WINDOWS['1d'];
  const body = {
    ...question.period,
    steps: steps.map((event) => ({ event, ...question.filtered })),
    windowMs,
    order: order as 'ordered',
    without: without ? without.split(',').map((event) => ({ event })) : [],
    perVisit: unit === 'visits',
    by: question.groups,
    top: 8,
  };
  const funnel = useCall(own.funnel, { params, body }, { enabled: steps.length > 0 });
  return (
    <Stack gap="lg">
      <PageHead title="Funnels" hint="How many get through a list of steps, and why the others stop">
        <PeriodControl of={question} />
        {steps.length > 0 && <SaveQuestion of={question} source="funnel" question={body} />}
        {steps.length > 0 && <FromCode calls={[coded(own.funnel, { params, body })]} />}
      </PageHead>
      <Steps steps={steps} onChange={change} names={question.kinds.map(({ name }) => name)} />
      <Group gap="sm">
        <NativeSelect
          size="xs"
          label="Within"
          value={window}
          onChange={({ currentTarget }) => setWindow(currentTarget.value)}
          data={Object.entries(WINDOWS).map(([value, [, label]]) => ({ value, label }))}
        />
        <NativeSelect
          size="xs"
          label="Steps"
          value={order}
          onChange={({ currentTarget }) => setOrder(currentTarget.value)}
          data={Object.entries(ORDERS).map(([value, label]) => ({ value, label }))}
        />
        <NativeSelect
          size="xs"
          label="Counted by"
          value={unit}
          onChange={({ currentTarget }) => setUnit(currentTarget.value)}
          data={['people', 'visits']}
        />
        <MultiSelect
          size="xs"
          label="Ended by"
          placeholder={without ? '' : 'nothing else'}
          data={question.kinds.map(({ name }) => name).filter((name) => !steps.includes(name))}
          value={without ? without.split(',') : []}
          onChange={(names) => setWithout(names.join(',') || null)}
          maxValues={5}
          clearable
          w={220}
        />
      </Group>
      <NarrowBar of={question} />
      {steps.length === 0 ? (
        <Empty title="Choose the first step above">
          <Text>
            A funnel is a list of events, such as app_opened, hut_opened, booking_sent. Each step after it shows how many went on.
          </Text>
        </Empty>
      ) : (
        <Loaded of={funnel}>{(answer) => <Answer of={answer} body={body} />}</Loaded>
      )}
      {steps.length > 0 && <Across question="funnel" body={{ ...body, by: [] }} />}
    </Stack>
  );
}

type StepsProps = { steps: string[]; onChange: (how: (steps: string[]) => string[]) => void; names: string[] };

function Steps({ steps, onChange, names }: StepsProps) {
  const addStep = (name: string) => name && onChange((before) => [...before, name]);
  return (
    <Group gap={6} aria-label="Steps">
      {steps.map((step, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: the same event can stand twice; its place tells it apart
        <Group key={`${i} ${step}`} gap={2} wrap="nowrap" className="filter-part">
          <Text size="sm">
            {i + 1}. {step}
          </Text>
          <ActionIcon
            size="xs"
            variant="subtle"
            color="gray"
            aria-label={`Remove step ${i + 1}`}
            onClick={() => onChange((before) => before.filter((_, at) => at !== i))}
          >
            <IconX size={12} />
          </ActionIcon>
        </Group>
      ))}
      <NativeSelect
        size="xs"
        aria-label="Add step"
        leftSection={<IconPlus size={14} />}
        value=""
        onChange={({ currentTarget }) => addStep(currentTarget.value)}
        data={[{ value: '', label: steps.length === 0 ? 'First step' : 'Then' }, ...names]}
      />
    </Group>
  );
}

/** How many got through, by when they began, and how long that took them. */
function Course({ of: { trend, durations, trendStep: step, zone } }: { of: FunnelReply }) {
  return (
    <SimpleGrid cols={{ base: 1, lg: 2 }} spacing="xl">
      <ChartPanel
        title={`Got through, by ${step} of the first step`}
        unit="%"
        height={180}
        zone={zone}
        stepMs={stepMsOf(step)}
        rows={trend.map(({ at, people, through }) => ({ at, share: people === 0 ? null : (100 * through) / people }))}
        series={[{ name: 'share', label: 'of those who began', color: SERIES.viridian }]}
      />
      <ChartPanel
        title="Time from the first step to the last"
        unit="people"
        height={180}
        kind="bar"
        stepMs={0}
        rows={durations.map(({ upToMs, people }) => ({ at: '', label: upToMs === null ? 'longer' : `up to ${span(upToMs)}`, people }))}
        series={[{ name: 'people', label: 'people', color: SERIES.slate }]}
      />
    </SimpleGrid>
  );
}

function Answer({ of, body }: { of: FunnelReply; body: FunnelBody }) {
  const [stopAt, setStopAt] = useState<number | null>(null);
  const first = of.steps[0]?.people ?? 0;
  return (
    <>
      <section className="panel" aria-label="Steps of the funnel">
        <table className="plain" style={{ width: '100%' }}>
          <tbody>
            {of.steps.map(({ event, people, ofPrevious, ofFirst, medianMs }, i) => {
              const next = of.steps[i + 1];
              const lost = next ? people - next.people : 0;
              return (
                // biome-ignore lint/suspicious/noArrayIndexKey: steps stay in their order
                <tr key={i}>
                  <td style={{ width: '14rem' }}>
                    {i + 1}. <b>{event}</b>
                  </td>
                  <td className="right mono" style={{ width: '6rem' }}>
                    {count(people)}
                  </td>
                  <td className="right mono" style={{ width: '5rem' }}>
                    {percent(ofFirst)}
                  </td>
                  <td>
                    <div className="share" style={{ height: '1.3rem' }}>
                      <i style={{ width: `${first === 0 ? 0 : (people / first) * 100}%`, background: SERIES.viridian }} />
                    </div>
                  </td>
                  <td style={{ width: '15rem', whiteSpace: 'nowrap' }}>
                    {i > 0 && (
                      <Text size="xs" c="dimmed">
                        {percent(ofPrevious)} of the step before, median {span(medianMs)}
                      </Text>
                    )}
                    {lost > 0 && (
                      <Anchor component="button" size="xs" c="var(--care)" onClick={() => setStopAt(i)}>
                        {counted(lost, 'person', 'people')} stopped here: why?
                      </Anchor>
                    )}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </section>
      <Course of={of} />
      <ByGroup of={of} />
      <Drawer
        opened={stopAt !== null}
        onClose={() => setStopAt(null)}
        position="right"
        size="xl"
        title={`Who stopped after ${of.steps[stopAt ?? 0]?.event}`}
      >
        {stopAt !== null && <FunnelWhy body={{ ...body, step: stopAt }} />}
      </Drawer>
    </>
  );
}

function ByGroup({ of }: { of: FunnelReply }) {
  if (of.groups.length === 0) return null;
  return (
    <section className="panel" aria-label="By group">
      <Title order={2} mb="xs">
        By group
      </Title>
      <div className="listing" style={{ borderTop: 0 }}>
        <table>
          <TableHead columns={['Group', ...of.steps.map(({ event }, i) => ({ right: `${i + 1}. ${event}` }))]} />
          <tbody>
            {of.groups.map(({ group, steps }) => (
              <tr key={groupWords(group)}>
                <td>{groupWords(group)}</td>
                {steps.map(({ people, ofPrevious }, i) => (
                  // biome-ignore lint/suspicious/noArrayIndexKey: steps stay in their order
                  <td key={i} className="right mono" style={{ background: i > 0 && ofPrevious !== null ? shade(ofPrevious) : undefined }}>
                    <Tooltip label={`${count(people)} people`}>
                      <span>{i === 0 ? count(people) : percent(ofPrevious)}</span>
                    </Tooltip>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** The fewer go on, the more it stands out. */
const shade = (share: number): string => `color-mix(in srgb, var(--series-persimmon) ${Math.round((1 - share) * 45)}%, transparent)`;
