/** What other limits would have said over the last week, drawn beside what was said. */
import { Text } from '@mantine/core';
import { type Objective, operations } from '@orchard/contract';
import { useDebouncedValue } from '@mantine/hooks';
import { useCall } from '../api.js';
import { Loaded } from '../parts/basics.js';
import { LeafLine, type Stretch, inWords, stretchesOf } from './leafLine.js';

const DAYS = 7;
type Line = { at: string; condition: Stretch['condition'] }[];

/** Points of a line as stretches: each says what held in the step that ended with it. */
function stretchesOfLine(line: Line, stepMs: number): Stretch[] {
  const stretches: Stretch[] = [];
  for (const { at, condition } of line) {
    const until = Date.parse(at);
    const last = stretches.at(-1);
    if (last?.condition === condition) last.until = until;
    else stretches.push({ from: last?.until ?? until - stepMs, until, condition });
  }
  return stretches;
}

export function Trial({
  place,
  objective,
  isChanged,
}: {
  place: { app: string; environment: string };
  objective: Objective;
  isChanged: boolean;
}) {
  const [settled] = useDebouncedValue(objective, 400);
  const body = { objective: { ...settled, name: settled.name || 'new' }, days: DAYS };
  const trial = useCall(operations.objectives.trial, { params: place, body });
  return (
    <section className="panel" aria-label="The last seven days">
      <Text size="sm" fw={600} mb={4}>
        The last seven days
      </Text>
      <Loaded of={trial}>
        {({ would, now, said, before, stepMs }) => {
          const from = Date.parse(would[0]?.at ?? '') - stepMs;
          const until = Date.parse(would.at(-1)?.at ?? '');
          const rows: [string, Stretch[]][] = [
            ['The environment was', stretchesOf(before, said, from, until)],
            ...(now ? [['This objective says', stretchesOfLine(now, stepMs)] as [string, Stretch[]]] : []),
            ...(isChanged || !now ? [['With these limits', stretchesOfLine(would, stepMs)] as [string, Stretch[]]] : []),
          ];
          return (
            <div className="trial">
              {rows.map(([label, stretches]) => (
                <div key={label}>
                  <Text size="sm">{label}</Text>
                  <div>
                    <LeafLine stretches={stretches} from={from} until={until} label={label} />
                    <Text size="xs" c="dimmed">
                      {inWords(stretches)}
                    </Text>
                  </div>
                </div>
              ))}
            </div>
          );
        }}
      </Loaded>
    </section>
  );
}
