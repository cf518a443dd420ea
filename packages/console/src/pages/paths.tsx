/** What people do before or after an event, within the same visit. */
import { Anchor, NativeSelect, SegmentedControl, Stack, Text } from '@mantine/core';
import { operations, type PathNode } from '@orchard/contract';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Across } from '../insight/across.js';
import { Flow } from '../insight/flow.js';
import { NarrowBar, percent, PeriodControl, useQuestion } from '../insight/question.js';
import { Empty, Loaded, PageHead } from '../parts/basics.js';
import { count, counted } from '../parts/format.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { SERIES } from '../theme.js';

export function PathsPage() {
  const { params } = useEnvironment();
  const question = useQuestion();
  const [chosen, setEvent] = useAddressState('event');
  const [direction, setDirection] = useAddressState('direction', 'after');
  const [depth, setDepth] = useAddressState('depth', '4');
  const [drawn, setDrawn] = useAddressState('as', 'streams');
  const names = question.kinds.map(({ name }) => name);
  const event = chosen || names[0] || '';
  const asked = {
    params,
    body: { ...question.period, ...question.filtered, event, direction: direction as 'after', depth: Number(depth) },
  };
  const paths = useCall(operations.insight.paths, asked, { enabled: event !== '' });
  return (
    <Stack gap="lg">
      <PageHead title="Paths" hint="What people do before or after an event, in the same visit">
        <SegmentedControl
          size="xs"
          aria-label="Direction"
          value={direction}
          onChange={setDirection}
          data={[
            { value: 'before', label: 'Before' },
            { value: 'after', label: 'After' },
          ]}
        />
        <SegmentedControl
          size="xs"
          aria-label="Drawn as"
          value={drawn}
          onChange={setDrawn}
          data={[
            { value: 'streams', label: 'Streams' },
            { value: 'tree', label: 'Tree' },
          ]}
        />
        <NativeSelect
          size="xs"
          aria-label="Event"
          value={event}
          onChange={({ currentTarget }) => setEvent(currentTarget.value)}
          data={names}
        />
        <NativeSelect
          size="xs"
          aria-label="Depth"
          value={depth}
          onChange={({ currentTarget }) => setDepth(currentTarget.value)}
          data={[1, 2, 3, 4, 5, 6].map((one) => ({ value: String(one), label: counted(one, 'step') }))}
        />
        <PeriodControl of={question} />
        <FromCode calls={[coded(operations.insight.paths, asked)]} />
      </PageHead>
      <NarrowBar of={question} groupable={false} />
      <Loaded of={paths}>
        {({ total, next }) =>
          total === 0 ? (
            <Empty title="Nobody did this in the period">
              <Text>Choose another event or a longer period.</Text>
            </Empty>
          ) : (
            <section className="panel" aria-label="Paths">
              <Text mb="xs">
                {direction === 'after' ? 'After' : 'Before'} the first <b>{event}</b> of {counted(total, 'visit')}:
              </Text>
              {drawn === 'streams' && <Flow event={event} next={next} isBefore={direction === 'before'} onChoose={setEvent} />}
              {drawn === 'tree' && (
                <ul className="paths">
                  {next.map((node) => (
                    <Branch key={node.event ?? 'rare'} of={node} total={total} isBefore={direction === 'before'} onChoose={setEvent} />
                  ))}
                </ul>
              )}
            </section>
          )
        }
      </Loaded>
      {event !== '' && <Across question="paths" body={asked.body} />}
    </Stack>
  );
}

type Props = { of: PathNode; total: number; isBefore: boolean; onChoose: (event: string) => void };

function Branch({ of: { event, count: times, next }, total, isBefore, onChoose }: Props) {
  const share = times / total;
  return (
    <li>
      <span className="path" title={`${count(times)} of ${count(total)} visits`}>
        <i
          style={{
            width: `${Math.max(2, share * 220)}px`,
            background: event === null ? SERIES.slate : event === '' ? 'var(--rule)' : SERIES.viridian,
          }}
        />
        <span className="mono">{percent(share)}</span>
        {event === null ? (
          <Text span c="dimmed" size="sm">
            rarer ones together
          </Text>
        ) : event === '' ? (
          <Text span c="dimmed" size="sm">
            {isBefore ? 'the visit began here' : 'the visit ended here'}
          </Text>
        ) : (
          <Anchor component="button" size="sm" onClick={() => onChoose(event)}>
            {event}
          </Anchor>
        )}
      </span>
      {next.length > 0 && (
        <ul className="paths">
          {next.map((node) => (
            <Branch key={node.event ?? 'rare'} of={node} total={total} isBefore={isBefore} onChoose={onChoose} />
          ))}
        </ul>
      )}
    </li>
  );
}
