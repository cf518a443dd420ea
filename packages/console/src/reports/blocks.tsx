/** The blocks of a report on a page. */
import { Anchor, SimpleGrid, Text, Title } from '@mantine/core';
import { cellWords, changeOf, figureWords, type ReportPaper } from '@orchard/contract';
import { Link } from 'react-router';
import { ChartPanel } from '../parts/chart.js';
import { TableHead } from '../parts/tableHead.js';
import { SERIES } from '../theme.js';

type Block = ReportPaper['blocks'][number];
type Of<Kind extends Block['kind']> = { of: Extract<Block, { kind: Kind }> };

export function ReportBlock({ of, zone }: { of: Block; zone: string }) {
  switch (of.kind) {
    case 'care':
      return <Care of={of} />;
    case 'figures':
      return <Figures of={of} />;
    case 'chart':
      return <Chart of={of} zone={zone} />;
    case 'table':
      return <Table of={of} zone={zone} />;
  }
}

function Care({ of }: Of<'care'>) {
  const items = [...of.items].sort((a, b) => b.weight - a.weight);
  if (items.length === 0) return <Text size="sm">Nothing needs care.</Text>;
  return (
    <section className="panel care-list" aria-label="What needs care">
      <Title order={2} mb={4}>
        What needs care
      </Title>
      <ul>
        {items.map(({ text, link }) => (
          <li key={text}>
            <Anchor component={Link} to={link} c="inherit">
              {text}
            </Anchor>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Figures({ of }: Of<'figures'>) {
  return (
    <section className="panel" aria-label={of.title}>
      <Title order={2} mb="xs">
        {of.title}
      </Title>
      <SimpleGrid cols={{ base: 2, sm: 4 }} spacing="lg">
        {of.items.map((figure) => {
          const change = changeOf(figure);
          return (
            <div key={figure.label}>
              <Text size="sm" c="dimmed">
                {figure.label}
              </Text>
              <div className="number">{figureWords(figure.unit, figure.value)}</div>
              {change && (
                <Text size="sm" className={change.isWorse ? 'care' : undefined} c={change.isWorse ? undefined : 'dimmed'}>
                  {change.text}
                </Text>
              )}
            </div>
          );
        })}
      </SimpleGrid>
    </section>
  );
}

function Chart({ of, zone }: Of<'chart'> & { zone: string }) {
  const from = Date.parse(of.from);
  const rows = (of.series[0]?.values ?? []).map((_, i) => ({
    at: new Date(from + i * of.stepMs).toISOString(),
    ...Object.fromEntries(of.series.map(({ label, values }) => [label, values[i] ?? null])),
  }));
  return (
    <ChartPanel
      title={of.title}
      unit={of.unit}
      rows={rows}
      series={of.series.map(({ label, colour }) => ({ name: label, label, color: SERIES[colour] }))}
      stepMs={of.stepMs}
      zone={zone}
      kind={of.draw}
      stacked={of.draw === 'bar'}
    />
  );
}

function Table({ of, zone }: Of<'table'> & { zone: string }) {
  return (
    <section className="panel" aria-label={of.title}>
      <Title order={2} mb="xs">
        {of.title}
      </Title>
      {of.rows.length === 0 ? (
        <Text size="sm">None in this period.</Text>
      ) : (
        <div className="listing" style={{ borderTop: 0 }}>
          <table>
            <TableHead columns={of.columns.map(({ label, type }) => (type === 'number' ? { right: label } : label))} />
            <tbody>
              {of.rows.map((row, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: rows of a report have no name and stay in their order
                <tr key={i}>
                  {of.columns.map((column, at) => {
                    const text = cellWords(row[at] ?? null, column, zone);
                    return (
                      <td key={column.name} className={column.type === 'number' ? 'right mono' : undefined} title={text}>
                        {text}
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {of.isCut && (
        <Text size="sm" c="dimmed">
          There are more rows than the report shows.
        </Text>
      )}
    </section>
  );
}
