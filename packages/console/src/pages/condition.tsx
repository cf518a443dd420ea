/** How well every environment is right now, or was at a time: whether to get up, and what breaks next. */
import { Alert, Anchor, Button, Drawer, Group, SegmentedControl, Stack, Text, Title } from '@mantine/core';
import { type EnvironmentConditionDocument, type InstallationCondition, operations, type ReplyOf, ROLES } from '@orchard/contract';
import { IconPlus } from '@tabler/icons-react';
import { useEffect, useMemo, useState } from 'react';
import { Link } from 'react-router';
import { useCall } from '../api.js';
import { NEW, ObjectiveEditor } from '../condition/editor.js';
import { Leaf } from '../condition/leaf.js';
import { inWords, LeafLine, stretchesOf } from '../condition/leafLine.js';
import { MomentControl, useMoment } from '../condition/moment.js';
import { ObjectiveList, placed } from '../condition/objectiveList.js';
import { OpenSloButtons } from '../condition/openSlo.js';
import { Strip, summary } from '../condition/strip.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Loaded, Moment, PageHead } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { SaveReport } from '../parts/saveReport.js';
import { Problems } from '../requests/problems.js';

const OFTEN_MS = 5_000;
const SPANS = { '24h': 86_400_000, '30d': 2_592_000_000 } as const;
/** From here on an answer counts as old. */
const OLD_MS = 30_000;

type History = ReplyOf<typeof operations.condition.history>;

const HOUR_MS = 3_600_000;
const hourUntil = (until: number) => ({ from: new Date(until - HOUR_MS).toISOString(), until: new Date(until).toISOString() });

/** The time, every second. */
function useNow(): number {
  const [now, setNow] = useState(() => Date.now());
  useEffect(() => {
    const timer = setInterval(() => setNow(Date.now()), 1_000);
    return () => clearInterval(timer);
  }, []);
  return now;
}

export function ConditionPage() {
  const { params, details } = useEnvironment();
  const now = useNow();
  const moment = useMoment();
  const [spanText, setSpan] = useAddressState('span', '24h');
  const span = spanText === '30d' ? '30d' : '24h';
  const [openId, setOpen] = useAddressState('open');
  const query = moment.at === null ? {} : { at: new Date(moment.at).toISOString() };
  const condition = useCall(operations.condition.read, { query }, moment.at === null ? { refetchInterval: OFTEN_MS } : {});
  // A grain of a minute: the line does not need to be read anew each second.
  const until = Math.ceil(now / 60_000) * 60_000;
  const from = until - SPANS[span];
  const period = { from: new Date(from).toISOString(), until: new Date(until).toISOString() };
  const history = useCall(operations.condition.history, { query: period });
  const mayChange = details ? ROLES.indexOf(details.role) >= ROLES.indexOf('maintainer') : false;
  const [app = '', environment = '', ...name] = openId.split('/');
  return (
    <Stack gap="lg">
      <PageHead title="Condition" hint={<Age of={condition.data?.evaluatedAt ?? null} at={moment.at} now={now} />}>
        <SegmentedControl
          size="xs"
          aria-label="Line of the last"
          value={span}
          onChange={setSpan}
          data={[
            { value: '24h', label: '24 hours' },
            { value: '30d', label: '30 days' },
          ]}
        />
        <SaveReport of={{ source: 'condition' }} />
        <FromCode calls={[coded(operations.condition.read, { query }), coded(operations.condition.history, { query: period })]} />
      </PageHead>
      <MomentControl moment={moment} from={from} until={until} />
      {condition.error && condition.data && (
        <Alert role="alert" color="persimmon" variant="light" title="The service does not answer">
          This is how it was when it last did.
        </Alert>
      )}
      <Loaded of={condition.data ? ({ ...condition, error: null } as typeof condition) : condition}>
        {({ items, installation }) =>
          items.length === 0 ? (
            <Empty title="No environment to show">
              <Text>You have a role in no environment. Ask an owner for one.</Text>
            </Empty>
          ) : (
            <>
              {installation && <InstallationNote of={installation} />}
              <Environments
                items={items}
                history={history.data}
                period={{ from, until }}
                at={moment.at}
                now={now}
                onPick={(at) => moment.set(Math.min(at, Date.now()))}
              />
              <section>
                <Group justify="space-between" align="flex-end" mb="md">
                  <div>
                    <Title order={2}>Objectives</Title>
                    <Text c="dimmed" size="sm">
                      The nearest to its next limit first, whichever it is
                    </Text>
                  </div>
                  <Group gap="xs">
                    {mayChange && (
                      <>
                        <Button
                          size="xs"
                          leftSection={<IconPlus size={14} />}
                          onClick={() => setOpen(`${params.app}/${params.environment}/${NEW}`)}
                        >
                          Objective
                        </Button>
                        <OpenSloButtons params={params} />
                      </>
                    )}
                  </Group>
                </Group>
                <ObjectiveList items={placed(items)} at={moment.at ?? now} onOpen={setOpen} />
              </section>
              <Problems
                query={hourUntil(moment.at ?? until)}
                title={`${params.app} / ${params.environment}: refused and failed in that hour, by problem`}
              />
            </>
          )
        }
      </Loaded>
      <Drawer
        opened={openId !== ''}
        onClose={() => setOpen(null)}
        position="right"
        size="xl"
        title={name.join('/') === NEW ? 'New objective' : 'Objective'}
      >
        {openId && <ObjectiveEditor place={{ app, environment }} name={name.join('/')} onClose={() => setOpen(null)} />}
      </Drawer>
    </Stack>
  );
}

function Age({ of, at, now }: { of: string | null; at: number | null; now: number }) {
  if (at !== null)
    return (
      <>
        As it was at <Moment at={new Date(at).toISOString()} />
      </>
    );
  if (!of) return <>Not evaluated yet</>;
  const ageMs = Math.max(0, now - Date.parse(of));
  const words = `evaluated ${Math.round(ageMs / 1000)} s ago`;
  return ageMs > OLD_MS ? (
    <span className="care">Old: {words}. Nobody evaluates; is the database there?</span>
  ) : (
    <>Every ten seconds; {words}</>
  );
}

/** Says nothing while the installation is well. */
function InstallationNote({ of: { condition, checks } }: { of: InstallationCondition }) {
  if (condition === 'thriving' || condition === 'dormant')
    return (
      <Text size="sm" c="dimmed">
        <Leaf of={condition} size={15} /> The installation: {checks.map(({ text }) => text).join(' ')}
      </Text>
    );
  return (
    <Alert color="persimmon" variant="light" title={`The installation is ${condition}`}>
      {checks
        .filter((one) => one.condition === condition)
        .map(({ text }) => text)
        .join(' ')}
    </Alert>
  );
}

type EnvironmentsProps = {
  items: readonly EnvironmentConditionDocument[];
  history: History | undefined;
  period: { from: number; until: number };
  at: number | null;
  now: number;
  onPick: (at: number) => void;
};

function Environments({ items, history, period, at, now, onPick }: EnvironmentsProps) {
  return (
    <section className="environments" aria-label="Environments">
      <header>Environment</header>
      <header>{at === null ? 'Last five minutes' : 'The time before'}</header>
      <header>{period.until - period.from > SPANS['24h'] ? 'Last 30 days' : 'Last 24 hours'}</header>
      {items.map((item) => (
        <OneEnvironment
          key={`${item.app}/${item.environment}`}
          of={item}
          history={history?.items.find((one) => one.app === item.app && one.environment === item.environment)}
          period={period}
          at={at}
          now={now}
          onPick={onPick}
        />
      ))}
    </section>
  );
}

type OneProps = Omit<EnvironmentsProps, 'items' | 'history'> & {
  of: EnvironmentConditionDocument;
  history: History['items'][number] | undefined;
};

function OneEnvironment({ of, history, period, at, now, onPick }: OneProps) {
  const { app, environment, condition, since, recent } = of;
  const stretches = useMemo(
    () => (history ? stretchesOf(history.before, history.changes, period.from, Math.min(period.until, now)) : []),
    [history, period.from, period.until, now],
  );
  const label = `${app} / ${environment}`;
  return (
    <>
      <div className="place">
        <Leaf of={condition} size={34} />
        <Anchor component={Link} to={`/${app}/${environment}/overview`} c="inherit">
          {label}
        </Anchor>
        <small>
          <b>{condition}</b> since <Moment at={since} />
        </small>
      </div>
      <div>
        <Strip of={of} until={at ?? now} label={label} />
        <small className="under">{summary(recent)}</small>
      </div>
      <div>
        <LeafLine stretches={stretches} from={period.from} until={period.until} at={at} onPick={onPick} label={label} />
        <small className="under">{stretches.length > 0 ? inWords(stretches) : ' '}</small>
      </div>
    </>
  );
}
