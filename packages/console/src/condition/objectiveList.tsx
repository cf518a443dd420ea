/** All objectives of all environments, the nearest to its notch first: what will break next stands on top. */
import { Anchor, Text } from '@mantine/core';
import type { EnvironmentConditionDocument, Finding } from '@orchard/contract';
import { callsAgainst, durationWords, measureWords, subjectWords, valueWords } from '@orchard/core';
import { Link } from 'react-router';
import { TableHead } from '../parts/tableHead.js';
import { Condition } from './leaf.js';
import { NotchBar } from './notchBar.js';

type Placed = Finding & { app: string; environment: string };

/** The id of an objective in the address. */
export const idOf = ({ app, environment, name }: Pick<Placed, 'app' | 'environment' | 'name'>) => `${app}/${environment}/${name}`;

export function placed(items: readonly EnvironmentConditionDocument[]): Placed[] {
  return items
    .flatMap(({ app, environment, objectives }) => objectives.map((one) => ({ app, environment, ...one })))
    .sort((a, b) => (b.nearness ?? -1) - (a.nearness ?? -1));
}

export function ObjectiveList({ items, at, onOpen }: { items: readonly Placed[]; at: number; onOpen: (id: string) => void }) {
  return (
    <div className="listing">
      <table aria-label="Objectives">
        <TableHead
          columns={[
            'Objective',
            'Environment',
            'Condition',
            'To its limits',
            { right: 'Measured' },
            'Stressed, failing',
            'Error budget',
            { hidden: 'Calls' },
          ]}
        />
        <tbody>
          {items.map((one) => (
            <tr key={idOf(one)}>
              <td>
                <button type="button" className="open" onClick={() => onOpen(idOf(one))}>
                  {one.title ?? one.name}
                </button>
                <Text size="xs" c="dimmed">
                  {measureWords(one.measure)}, {subjectWords(one.subject)}, {durationWords(one.windowMs)}
                </Text>
              </td>
              <td>
                {one.app} / {one.environment}
              </td>
              <td>{one.value === null ? <TooFew of={one} /> : <Condition of={one.condition} />}</td>
              <td>
                <NotchBar of={one} />
              </td>
              <td className="right mono">{one.value === null ? '–' : valueWords(one.measure, one.value)}</td>
              <td className="mono">
                {valueWords(one.measure, one.stressed)}, {valueWords(one.measure, one.failing)}
              </td>
              <td>
                <Budget of={one} />
              </td>
              <td>
                <CallsLink of={one} at={at} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function TooFew({ of: { calls, leastCalls } }: { of: Finding }) {
  return (
    <Text span size="sm" c="dimmed" title={`It speaks from ${leastCalls} calls on.`}>
      {calls} of {leastCalls} calls
    </Text>
  );
}

/** Spent, and how fast: 1 × is just as fast as the window allows. */
function Budget({ of: { budget } }: { of: Finding }) {
  if (!budget)
    return (
      <Text size="sm" c="dimmed" span>
        –
      </Text>
    );
  const speed = budget.fast ?? budget.slow;
  return (
    <span
      title={`${Math.round(budget.bad)} of ${Math.round(budget.allowed * budget.total)} bad ones that ${budget.total} calls allow. 1 × spends all of it in exactly the window.`}
    >
      <span className={budget.spent > 1 ? 'care' : undefined}>{Math.round(budget.spent * 100)} % spent</span>
      {speed !== null && `, ${speed.toFixed(1)} ×`}
    </span>
  );
}

function CallsLink({ of, at }: { of: Placed; at: number }) {
  const base = `/${of.app}/${of.environment}`;
  const filter = callsAgainst(of, at);
  const to = filter ? `${base}/requests?filter=${encodeURIComponent(filter)}` : `${base}/jobs`;
  const what = filter ? 'calls' : 'jobs';
  return (
    <Anchor
      component={Link}
      to={to}
      size="sm"
      aria-label={`${what} that count against ${of.title ?? of.name} in ${of.app}/${of.environment}`}
    >
      {what}
    </Anchor>
  );
}
