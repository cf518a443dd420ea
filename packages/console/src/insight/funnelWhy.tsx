/** Why people stop between two steps of a funnel: what tells them apart, what they did next, who they are. */
import { Anchor, Button, Stack, Text, Title } from '@mantine/core';
import { operations, type WhyReply } from '@orchard/contract';
import { Link, useNavigate } from 'react-router';
import { useCall, useChange } from '../api.js';
import { didFilter } from '../compose/didPicker.js';
import { useEnvironment } from '../environment.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { count, counted } from '../parts/format.js';
import type { coded } from '../parts/fromCode.js';
import { PersonCells } from './personLinks.js';

const own = operations.insight;
const DAY_MS = 24 * 3_600_000;
/** The question of a funnel. */
export type FunnelBody = Parameters<typeof coded<typeof own.funnel>>[1]['body'];
const MOST_RECIPIENTS = 1_000;

/** Makes a draft for those who stopped and are signed in: nobody else can be told by name. */
function WriteToThem({ body }: { body: FunnelBody & { step: number } }) {
  const { params, base, details } = useEnvironment();
  const navigate = useNavigate();
  const people = useCall(own.people, { params, body: { ...body, stopped: true, limit: MOST_RECIPIENTS } });
  const draft = useChange(operations.notifications.sendManaged);
  const users = (people.data?.items ?? []).flatMap(({ userId }) => userId ?? []);
  if (users.length === 0 || details?.role === 'viewer') return null;
  const content = { draft: true, title: 'Not quite done', body: 'You stopped half-way. Shall we go on where you were?' };
  return (
    <>
      <Trouble error={draft.error} />
      <Button
        variant="default"
        size="xs"
        mb="xs"
        loading={draft.isPending}
        onClick={() =>
          draft.mutate(
            { params, body: { ...content, audience: { users } } },
            { onSuccess: ({ id }) => navigate(`${base}/compose?kept=${id}`) },
          )
        }
      >
        Write to the {counted(users.length, 'user')} among them
      </Button>
    </>
  );
}

/** The same people as an audience that stays up to date: devices without a user, too. */
function ByWhatTheyDid({ of: { steps, step, from, until } }: { of: FunnelBody & { step: number } }) {
  const { base, details } = useEnvironment();
  const [did, didNot] = [steps[step], steps[step + 1]];
  if (!did || !didNot || !from || !until || details?.role === 'viewer') return null;
  const days = Math.ceil((Date.parse(until) - Date.parse(from)) / DAY_MS);
  const filter = `${didFilter(did.event, 1, days)} AND ${didFilter(didNot.event, 0, days)}`;
  return (
    <Text size="sm" mb="xs">
      <Anchor component={Link} to={`${base}/compose?filter=${encodeURIComponent(filter)}`} size="sm">
        Write to all devices of those who did {did.event} and not {didNot.event} in {counted(days, 'day')}
      </Anchor>
    </Text>
  );
}

/** What went wrong just before they stopped, as far as calls are kept. */
function CallsBefore({ of: { people, asked, sampled, since, items } }: { of: WhyReply['calls'] }) {
  const { base } = useEnvironment();
  return (
    <section className="panel" aria-label="What went wrong just before">
      <Title order={3}>What went wrong just before</Title>
      <Text size="sm" mb={items.length > 0 ? 'xs' : 0}>
        {people === 0 ? 'Nobody' : counted(people, 'person', 'people')} of {count(asked)} had a refused, failed or slow call.
        {sampled && ' Of many such calls one in twenty is kept, so it may be more.'}
        {since && (
          <>
            {' '}
            Calls before <Moment at={since} /> were not looked at.
          </>
        )}
      </Text>
      {items.length > 0 && (
        <table className="plain">
          <tbody>
            {items.map(({ problem, method, route, target, people: some, request }) => (
              <tr key={`${problem} ${method} ${route} ${target}`}>
                <td>
                  <Anchor component={Link} to={`${base}/requests?open=${request}`} size="sm">
                    {problem ?? 'slow'}
                  </Anchor>
                </td>
                <td className="mono">
                  {method} {target ? route.replace(/\{\w+\}/, target) : route}
                </td>
                <td className="right mono">{count(some)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </section>
  );
}

/** The drawer of one step. */
export function FunnelWhy({ body }: { body: FunnelBody & { step: number } }) {
  const { params } = useEnvironment();
  const why = useCall(own.why, { params, body });
  const people = useCall(own.people, { params, body: { ...body, stopped: true, limit: 20 } });
  return (
    <Loaded of={why}>
      {({ stopped, went, differences, calls, next }) => (
        <Stack>
          <Text>
            {counted(stopped, 'person', 'people')} stopped, {count(went)} went on.
          </Text>
          <section className="panel">
            <Title order={3}>What tells them apart</Title>
            {differences.length === 0 ? (
              <Text size="sm">No property differs by more than chance would explain.</Text>
            ) : (
              <ul style={{ margin: 0, paddingLeft: '1.1rem' }}>
                {differences.slice(0, 8).map(({ property, value, words, p }) => (
                  <li key={`${property} ${value}`} title={`p = ${p.toExponential(1)}, two-proportion z-test; false discovery rate 5 %`}>
                    {words}
                  </li>
                ))}
              </ul>
            )}
          </section>
          <CallsBefore of={calls} />
          <section className="panel">
            <Title order={3}>What they did next</Title>
            <table className="plain">
              <tbody>
                {next.map(({ event, people: some }) => (
                  <tr key={event ?? ''}>
                    <td>{event ?? 'nothing within the window'}</td>
                    <td className="right mono">{count(some)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
          <section className="panel">
            <Title order={3}>Who they are</Title>
            <WriteToThem body={body} />
            <ByWhatTheyDid of={body} />
            <table className="plain">
              <tbody>
                {(people.data?.items ?? []).map((person) => (
                  <tr key={person.person}>
                    <PersonCells of={person} />
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        </Stack>
      )}
    </Loaded>
  );
}
