/** API use told apart by client, status, version or country: calls and p95 of each over time, and a table. */
import { Anchor, SimpleGrid, Title } from '@mantine/core';
import type { Usage, UsageSplit } from '@orchard/contract';
import { featureFilter } from '@orchard/core';
import { Link } from 'react-router';
import { ChartPanel } from '../parts/chart.js';
import { count, milliseconds } from '../parts/format.js';
import { TableHead } from '../parts/tableHead.js';
import { SERIES } from '../theme.js';

type Part = NonNullable<Usage['parts']>[number];

export const SPLIT_WORDS: Record<UsageSplit, string> = {
  client: 'Client',
  feature: 'Feature',
  status: 'Status',
  version: 'App version',
  country: 'Country',
};
const COLOURS = Object.values(SERIES);
const UNKNOWN: Record<UsageSplit, string> = {
  client: 'no client known',
  feature: 'no feature',
  status: 'no status',
  version: 'no version told',
  country: 'no country reported',
};

const partWords = ({ name, others }: Part, by: UsageSplit): string => (others ? 'others' : (name ?? UNKNOWN[by]));

export function UsageParts({
  by,
  parts,
  stepMs,
  step,
  base,
}: {
  by: UsageSplit;
  parts: Part[];
  stepMs: number;
  step: string;
  base: string;
}) {
  const series = parts.map((part, i) => ({ name: `part${i}`, label: partWords(part, by), color: COLOURS[i % COLOURS.length] as string }));
  const rowsOf = (value: (one: Part['steps'][number]) => number | null) =>
    (parts[0]?.steps ?? []).map(({ at }, step) => ({
      at,
      ...Object.fromEntries(parts.map(({ steps }, i) => [`part${i}`, steps[step] ? value(steps[step]) : null])),
    }));
  const word = SPLIT_WORDS[by].toLowerCase();
  return (
    <>
      <SimpleGrid cols={{ base: 1, lg: 2 }} spacing="xl">
        <ChartPanel
          key={`calls ${by}`}
          title={`Calls per ${step} by ${word}`}
          unit="calls"
          parts
          rows={rowsOf(({ calls }) => calls)}
          series={series}
          stepMs={stepMs}
        />
        <ChartPanel
          key={`p95 ${by}`}
          title={`p95 by ${word}`}
          unit="ms"
          rows={rowsOf(({ p95Ms }) => p95Ms)}
          series={series}
          stepMs={stepMs}
        />
      </SimpleGrid>
      <PartTable by={by} parts={parts} base={base} />
    </>
  );
}

function PartTable({ by, parts, base }: { by: UsageSplit; parts: Part[]; base: string }) {
  /** Requests keep no country. */
  const linkTo = ({ name, others }: Part): string | null => {
    if (others || by === 'country') return null;
    if (by === 'feature') {
      const filter = featureFilter(name ?? 'other');
      return filter && `${base}/requests?filter=${encodeURIComponent(`direction = 'in' AND (${filter})`)}`;
    }
    const is = by === 'status' ? `= ${name}` : name === null ? 'IS NULL' : `= '${name}'`;
    return `${base}/requests?filter=${encodeURIComponent(`direction = 'in' AND ${by} ${is}`)}`;
  };
  return (
    <section className="panel" aria-label={`By ${SPLIT_WORDS[by].toLowerCase()}`}>
      <Title order={2} mb="xs">
        By {SPLIT_WORDS[by].toLowerCase()}
      </Title>
      <div className="listing" style={{ borderTop: 0 }}>
        <table>
          <TableHead
            columns={[
              SPLIT_WORDS[by],
              { right: 'Calls' },
              { right: 'Refused' },
              { right: 'Failed' },
              { right: 'p50' },
              { right: 'p95' },
              { right: 'p99' },
            ]}
          />
          <tbody>
            {parts.map((part) => {
              const to = linkTo(part);
              return (
                <tr key={partWords(part, by)}>
                  <td>{partWords(part, by)}</td>
                  <td className="right mono">
                    {to ? (
                      <Anchor component={Link} to={to} c="inherit">
                        {count(part.calls)}
                      </Anchor>
                    ) : (
                      count(part.calls)
                    )}
                  </td>
                  <td className="right mono">{((part.clientErrors / part.calls) * 100).toFixed(1)} %</td>
                  <td className="right mono">{((part.serverErrors / part.calls) * 100).toFixed(1)} %</td>
                  <td className="right mono">{milliseconds(part.p50Ms)}</td>
                  <td className="right mono">{milliseconds(part.p95Ms)}</td>
                  <td className="right mono">{milliseconds(part.p99Ms)}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
    </section>
  );
}
