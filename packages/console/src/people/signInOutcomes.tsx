/** How sign-ins went: tries, successes and refusals by way and over time, and the reasons. */
import { Anchor, Group, NativeSelect, SimpleGrid, Stack, Text, Title } from '@mantine/core';
import { operations, type Usage } from '@orchard/contract';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { callRows, CALL_SERIES } from '../pages/apiUse.js';
import { Loaded } from '../parts/basics.js';
import { ChartPanel } from '../parts/chart.js';
import { count, milliseconds } from '../parts/format.js';
import { RangeControl, useRange } from '../parts/range.js';
import { TableHead } from '../parts/tableHead.js';

/** By the route of the call; renewals of a session are among those by password. */
const WAYS: Record<string, string> = {
  '/app/v1/users': 'Sign-up',
  '/app/v1/sessions': 'Password, and renewals',
  '/app/v1/sessions/code': 'Code',
  '/app/v1/sessions/link': 'Link by mail',
  '/app/v1/sessions/guest': 'Guest',
  '/app/v1/sessions/passkey': 'Passkey',
  '/app/v1/sessions/second-factor': 'Second factor',
  '/app/v1/sessions/token': 'Token of a provider',
  '/app/v1/sessions/directory': 'Directory',
  '/identity/{app}/{environment}/ways/{way}/return': 'Provider, back on the sign-in page',
  '/identity/{app}/{environment}/authorize': 'Sign-in page',
  '/identity/{app}/{environment}/token': 'Code of the sign-in page',
};
type Line = Usage['routes'][number];
type Period = { from: string; until: string };
/** What a provider posts is taken up by the browser with a GET, which says how the sign-in went. */
const waysOf = ({ routes }: Usage): Line[] =>
  routes.filter(({ method, route }) => route in WAYS && method === (route.endsWith('/return') ? 'GET' : 'POST'));

export function SignInOutcomes() {
  const { params } = useEnvironment();
  const range = useRange();
  const usage = useCall(operations.telemetry.usage, { params, query: range.query });
  return (
    <Stack>
      <Group>
        <RangeControl range={range} />
      </Group>
      <Loaded of={usage}>
        {(read) => (
          <>
            <ByWay of={waysOf(read)} />
            <OverTime ways={waysOf(read)} query={range.query} />
          </>
        )}
      </Loaded>
      <Reasons query={range.query} />
    </Stack>
  );
}

function ByWay({ of: lines }: { of: Line[] }) {
  const { base } = useEnvironment();
  if (lines.length === 0) return <Text>Nobody has tried to sign in in this time.</Text>;
  const to = ({ method, route }: Line, condition: string) =>
    `${base}/requests?filter=${encodeURIComponent(`method = '${method}' AND route = '${route}'${condition}`)}`;
  return (
    <div className="listing" style={{ borderTop: 0 }}>
      <table>
        <TableHead
          columns={['Way', { right: 'Tries' }, { right: 'Succeeded' }, { right: 'Refused' }, { right: 'Failed' }, { right: 'p95' }]}
        />
        <tbody>
          {lines.map((line) => (
            <tr key={line.route}>
              <td>{WAYS[line.route]}</td>
              <td className="right mono">
                <Anchor component={Link} to={to(line, '')}>
                  {count(line.calls)}
                </Anchor>
              </td>
              <td className="right mono">{count(line.calls - line.clientErrors - line.serverErrors)}</td>
              <td className="right mono">
                <Anchor component={Link} to={to(line, ' AND status >= 400 AND status < 500')}>
                  {count(line.clientErrors)}
                </Anchor>
              </td>
              <td className={line.serverErrors > 0 ? 'right mono care' : 'right mono'}>{count(line.serverErrors)}</td>
              <td className="right mono">{milliseconds(line.p95Ms)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** One way at a time; a step leads to its calls. */
function OverTime({ ways, query }: { ways: Line[]; query: Period }) {
  const { params, base } = useEnvironment();
  const navigate = useNavigate();
  const [chosen, choose] = useState('');
  const { route } = ways.find((way) => way.route === chosen) ?? ways[0] ?? {};
  const usage = useCall(operations.telemetry.usage, { params, query: { ...query, route } }, { enabled: route !== undefined });
  if (route === undefined) return null;
  const stepTo = (at: string, stepMs: number) => {
    const until = new Date(Date.parse(at) + stepMs).toISOString();
    const filter = `route = '${route}' AND at >= TIMESTAMP('${at}') AND at < TIMESTAMP('${until}')`;
    void navigate(`${base}/requests?filter=${encodeURIComponent(filter)}`);
  };
  return (
    <>
      {ways.length > 1 && (
        <NativeSelect
          label="Way in the chart"
          value={route}
          onChange={({ currentTarget }) => choose(currentTarget.value)}
          data={ways.map((way) => ({ value: way.route, label: WAYS[way.route] ?? way.route }))}
          maw="20rem"
        />
      )}
      <Loaded of={usage}>
        {({ steps, stepMs }) => (
          <ChartPanel
            title={`${WAYS[route]} over time`}
            unit="calls"
            rows={callRows(steps)}
            series={CALL_SERIES}
            stepMs={stepMs}
            kind="bar"
            stacked
            height={200}
            onStep={(at) => stepTo(at, stepMs)}
          />
        )}
      </Loaded>
    </>
  );
}

function Reasons({ query }: { query: Period }) {
  const { params, base } = useEnvironment();
  const problems = useCall(operations.telemetry.problems, { params, query });
  const items = (problems.data?.items ?? []).flatMap(({ problem, title, routes }) => {
    const calls = routes.filter(({ route }) => route in WAYS).reduce((sum, one) => sum + one.calls, 0);
    return calls > 0 ? [{ problem, title, calls }] : [];
  });
  if (items.length === 0) return null;
  return (
    <section className="panel" aria-label="Reasons">
      <Title order={2} mb="xs">
        Why people were refused
      </Title>
      <SimpleGrid cols={{ base: 1, md: 2 }} spacing="xs">
        {items.map(({ problem, title, calls }) => (
          <Text key={problem}>
            <Anchor component={Link} to={`${base}/requests?filter=${encodeURIComponent(`problem = '${problem}'`)}`} className="mono">
              {count(calls)}
            </Anchor>{' '}
            {title}
          </Text>
        ))}
      </SimpleGrid>
    </section>
  );
}
