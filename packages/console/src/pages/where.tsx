/** Where people are: by the country and region that their devices reported when they registered. */
import { Anchor, SimpleGrid, Stack, Text } from '@mantine/core';
import { operations } from '@orchard/contract';
import { geoNaturalEarth1, geoPath, type GeoPermissibleObjects } from 'd3-geo';
import { iso31661NumericToAlpha2 } from 'iso-3166';
import { useMemo } from 'react';
import { feature } from 'topojson-client';
import countries110 from 'world-atlas/countries-110m.json';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { NarrowBar, percent, PeriodControl, useQuestion } from '../insight/question.js';
import { Loaded, PageHead } from '../parts/basics.js';
import { count, counted } from '../parts/format.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { TableHead } from '../parts/tableHead.js';
import { NoEvents } from './sheet.js';

const [WIDTH, HEIGHT] = [1000, 480];
/** The atlas numbers countries by ISO 3166-1 numeric; devices report alpha-2. */
type Shapes = { features: (GeoPermissibleObjects & { id?: string | number })[] };
const COUNTRIES = (
  feature(countries110 as never, (countries110 as never as { objects: { countries: never } }).objects.countries) as never as Shapes
).features.map((shape) => ({ shape, code: iso31661NumericToAlpha2[String(shape.id)] ?? '' }));
const NAMES = new Intl.DisplayNames('en', { type: 'region' });
const nameOf = (code: string | null): string => (code && /^[A-Z]{2}$/.test(code) ? (NAMES.of(code) ?? code) : (code ?? 'not reported'));
const MOST = 50;

export function WherePage() {
  const { params, base } = useEnvironment();
  const question = useQuestion();
  const [country, setCountry] = useAddressState('country');
  const body = { ...question.period, ...question.filtered, measure: 'people', top: MOST };
  const asked = { params, body: { ...body, group: ['country'] } };
  const people = useCall(operations.insight.events, asked);
  return (
    <Stack gap="lg">
      <PageHead
        title="Where people are"
        hint="By the country that their devices reported when they registered; addresses are never looked up"
      >
        <PeriodControl of={question} />
        <FromCode calls={[coded(operations.insight.events, asked)]} />
      </PageHead>
      <NarrowBar of={question} groupable={false} />
      <Loaded of={people}>
        {({ series }) => {
          const rows = series.flatMap(({ group, total }) =>
            total ? [{ code: group === 'others' ? 'others' : (group[0] ?? null), people: total }] : [],
          );
          if (rows.length === 0) return <NoEvents base={base} />;
          return (
            <>
              <WorldMap of={rows} onChoose={setCountry} />
              <SimpleGrid cols={{ base: 1, lg: 2 }} spacing="xl">
                <Places
                  label="Country"
                  of={rows.map(({ code, people: some }) => ({ code, name: code === 'others' ? 'others' : nameOf(code), people: some }))}
                  onChoose={setCountry}
                />
                {country && <Regions country={country} body={body} />}
              </SimpleGrid>
            </>
          );
        }}
      </Loaded>
    </Stack>
  );
}

type Row = { code: string | null; people: number };

/** More people, stronger colour: by the logarithm, since one country often has most of them. */
function WorldMap({ of, onChoose }: { of: Row[]; onChoose: (code: string) => void }) {
  const draw = useMemo(() => geoPath(geoNaturalEarth1().fitSize([WIDTH, HEIGHT], { type: 'Sphere' })), []);
  const people = new Map(of.map(({ code, people: some }) => [code, some]));
  const most = Math.max(1, ...people.values());
  return (
    <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label="People by country" className="world">
      <path d={draw({ type: 'Sphere' }) ?? ''} className="sea" />
      {COUNTRIES.map(({ shape, code }, i) => {
        const some = people.get(code) ?? 0;
        const share = some === 0 ? 0 : 25 + 75 * (Math.log(some + 1) / Math.log(most + 1));
        return (
          // biome-ignore lint/a11y/noStaticElementInteractions: the table below does the same by keyboard
          <path
            // biome-ignore lint/suspicious/noArrayIndexKey: shapes of the atlas stay in their order
            key={i}
            d={draw(shape) ?? ''}
            className="country"
            style={
              some > 0
                ? { fill: `color-mix(in srgb, var(--series-viridian) ${share}%, var(--mantine-color-body))`, cursor: 'pointer' }
                : undefined
            }
            onClick={some > 0 ? () => onChoose(code) : undefined}
          >
            <title>{`${nameOf(code || null)}: ${counted(some, 'person', 'people')}`}</title>
          </path>
        );
      })}
    </svg>
  );
}

function Places({
  label,
  of,
  onChoose,
}: {
  label: string;
  of: { code: string | null; name: string; people: number }[];
  onChoose?: (code: string) => void;
}) {
  const total = of.reduce((sum, { people }) => sum + people, 0);
  return (
    <section className="panel" aria-label={label}>
      <div className="listing" style={{ borderTop: 0 }}>
        <table>
          <TableHead columns={[label, { right: 'People' }, { right: 'Share' }]} />
          <tbody>
            {of.map(({ code, name, people }) => (
              <tr key={code}>
                <td>
                  {onChoose && code && code !== 'others' ? (
                    <Anchor component="button" size="sm" onClick={() => onChoose(code)}>
                      {name}
                    </Anchor>
                  ) : (
                    name
                  )}
                </td>
                <td className="right mono">{count(people)}</td>
                <td className="right mono">{percent(people / total)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

/** The regions of one country (ISO 3166-2). */
function Regions({ country, body }: { country: string; body: { filter?: string } & Record<string, unknown> }) {
  const { params } = useEnvironment();
  const here = `country = '${country.replaceAll("'", "''")}'`;
  const filter = body.filter ? `(${body.filter}) AND ${here}` : here;
  const people = useCall(operations.insight.events, { params, body: { ...body, filter, group: ['region'] } });
  return (
    <Loaded of={people}>
      {({ series }) => (
        <div>
          <Places
            label={`Region of ${nameOf(country)}`}
            of={series.flatMap(({ group, total }) => {
              const code = group === 'others' ? 'others' : (group[0] ?? null);
              return total ? [{ code, name: code ?? 'not reported', people: total }] : [];
            })}
          />
          <Text size="sm" c="dimmed" mt={4}>
            Regions by ISO 3166-2, where the device reports one.
          </Text>
        </div>
      )}
    </Loaded>
  );
}
