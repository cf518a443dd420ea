/** All apps, and the form for a new one. */
import { Anchor, Badge, Group, Stack, Text, TextInput, Title } from '@mantine/core';
import { type EnvironmentConditionDocument, type Member, operations } from '@orchard/contract';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';
import { useCall } from '../api.js';
import { AccessMatrix, TeamNotes } from '../parts/access.js';
import { Leaf } from '../condition/leaf.js';
import { inWords, LeafLine, type Stretch, stretchesOf } from '../condition/leafLine.js';
import { Strip, summary } from '../condition/strip.js';
import { Loaded, Moment, PageHead } from '../parts/basics.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { BeginWith } from '../releases/beginWith.js';

const SESSION_EVERY_MS = 4_000;
const CONDITION_EVERY_MS = 10_000;

export function AppsPage({ member }: { member: Member }) {
  const apps = useCall(operations.apps.list, {});
  const condition = useCall(operations.condition.read, { query: {} }, { refetchInterval: CONDITION_EVERY_MS });
  const history = useMonth();
  // This page has no stream that ends with the session.
  useCall(operations.members.readSession, {}, { refetchInterval: SESSION_EVERY_MS });
  return (
    <Stack component="main" maw={1100} mx="auto" p="xl" gap="lg">
      <PageHead title="Apps" hint={`Signed in as ${member.name}`} />
      <Loaded of={apps}>
        {({ items }) => (
          <>
            {items.length === 0 && (
              <Text>
                An app is one product with a mobile or web front. Each app gets the environments dev and live, with data, users, devices and
                keys of their own.
              </Text>
            )}
            {items.map((app) => (
              <section key={app.name} className="panel">
                <Title order={2}>{app.title}</Title>
                <div className="homes">
                  {app.environments.map(({ name, mode, role, secondFactorNeeded }) => (
                    <Home
                      key={name}
                      app={app.name}
                      name={name}
                      about={`${mode}, ${role}`}
                      of={condition.data?.items.find((one) => one.app === app.name && one.environment === name)}
                      isHeldBack={secondFactorNeeded === true}
                      month={history.of(app.name, name)}
                    />
                  ))}
                </div>
              </section>
            ))}
          </>
        )}
      </Loaded>
      {member.owner && <NewApp />}
      <Access />
    </Stack>
  );
}

type HomeProps = {
  app: string;
  name: string;
  about: string;
  of: EnvironmentConditionDocument | undefined;
  isHeldBack: boolean;
  month: { from: number; until: number; stretches: Stretch[] };
};

const MONTH_MS = 30 * 86_400_000;
const HOUR_MS = 3_600_000;

/** How each environment was in the last thirty days. */
function useMonth() {
  const until = Math.ceil(Date.now() / HOUR_MS) * HOUR_MS;
  const from = until - MONTH_MS;
  const query = { from: new Date(from).toISOString(), until: new Date(until).toISOString() };
  const { data } = useCall(operations.condition.history, { query });
  return {
    of: (app: string, name: string) => {
      const found = data?.items.find((one) => one.app === app && one.environment === name);
      const stretches = found ? stretchesOf(found.before, found.changes, from, Math.min(until, Date.now())) : [];
      return { from, until, stretches };
    },
  };
}

/** An environment: how it is, and its last five minutes. */
function Home({ app, name, about, of, isHeldBack, month }: HomeProps) {
  const base = `/${app}/${name}`;
  return (
    <>
      <Group gap={6}>
        {of && <Leaf of={of.condition} size={26} />}
        <div>
          <Group gap={6}>
            <Anchor component={Link} to={`${base}/overview`} fw={600}>
              {app} / {name}
            </Anchor>
            <Badge variant="outline" size="sm" color="gray" c="inherit">
              {about}
            </Badge>
          </Group>
          {isHeldBack && (
            <Anchor component={Link} to={`${base}/account`} size="sm" className="care">
              your full rights need a second factor
            </Anchor>
          )}
          {of && (
            <Text size="sm" c="dimmed">
              <Anchor component={Link} to={`${base}/condition`} c="inherit">
                {of.condition}
              </Anchor>{' '}
              since <Moment at={of.since} />
            </Text>
          )}
        </div>
      </Group>
      {of ? (
        <div>
          <Strip of={of} until={Date.now()} label={`${app} / ${name}, last five minutes`} />
          <small className="under">{summary(of.recent)}</small>
        </div>
      ) : (
        <span />
      )}
      <div>
        <LeafLine stretches={month.stretches} from={month.from} until={month.until} label={`${app} / ${name}, last 30 days`} />
        <small className="under">{month.stretches.length > 0 ? `30 days: ${inWords(month.stretches)}` : ''}</small>
      </div>
    </>
  );
}

/** Who has access to what; a name leads to the page Team. */
function Access() {
  const members = useCall(operations.members.list, {});
  const apps = useCall(operations.apps.list, {});
  const navigate = useNavigate();
  const first = apps.data?.items.find(({ environments }) => environments.length > 0);
  if (!first || !members.data) return null;
  const team = `/${first.name}/${first.environments[0]?.name}/team`;
  return (
    <section className="panel">
      <Title order={2}>Who has access</Title>
      <TeamNotes members={members.data.items} />
      <AccessMatrix members={members.data.items} apps={apps.data?.items ?? []} onOpen={(id) => navigate(`${team}?open=${id}`)} />
    </section>
  );
}

function NewApp() {
  const navigate = useNavigate();
  const [begin, setBegin] = useState('');
  const create = useOperationForm(operations.apps.create, {
    initial: { name: '' },
    input: (body) => ({ body }),
    onDone: ({ name }) => navigate(`/${name}/dev/${begin ? `releases?with=${begin}` : 'setup'}`),
  });
  return (
    <div className="panel">
      <FormOf of={create} verb="Create app" row>
        <TextInput
          label="New app"
          description="Lower-case letters, digits and -"
          placeholder="quillfell-warden"
          required
          w={320}
          {...create.form.getInputProps('name')}
        />
        <BeginWith value={begin} onChange={setBegin} />
      </FormOf>
    </div>
  );
}
