/** Systems behind the service: how each is reached, how it fares, and what of it apps may call. */
import { Button, Drawer, Group, Stack, Text, Title } from '@mantine/core';
import { operations, type Upstream } from '@orchard/contract';
import { OFTEN, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Facts, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { count, milliseconds } from '../parts/format.js';
import { ListPage } from '../parts/listPage.js';
import { Verdict } from '../parts/verdict.js';
import { UpstreamForm } from '../upstreams/form.js';
import { DescriptionOf, OperationsOf } from '../upstreams/operations.js';
import { TryUpstream } from '../upstreams/trying.js';
import { UsesOf } from '../upstreams/uses.js';

const WAYS: Record<Upstream['identify']['way'], string> = {
  none: 'nothing',
  basic: 'user and password',
  header: 'a header',
  'client-credentials': 'a token of the service',
  exchange: 'the user’s token, exchanged',
  'user-token': 'the user’s token',
  certificate: 'a client certificate',
};
const STATES: Record<Upstream['health']['state'], string> = { well: 'well', failing: 'failing', resting: 'left alone' };

export function UpstreamsPage() {
  const [adding, setAdding] = useAddressState('add');
  const [, setOpen] = useAddressState('open');
  return (
    <>
      <ListPage
        title="Upstreams"
        hint="Systems of others, called by functions and, where you open them, straight by apps"
        operation={operations.upstreams.list}
        {...OFTEN}
        label="Upstreams"
        idOf={({ name }) => name}
        empty={
          <Empty title="No upstream yet">
            <Text>An app calls a system behind at this service’s address, and never holds its credentials.</Text>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Upstream', render: ({ name }) => name },
          { name: 'address', label: 'Address', render: ({ address }) => <span className="mono">{address}</span> },
          { name: 'shown', label: 'Identified by', render: ({ identify }) => WAYS[identify.way] },
          {
            name: 'state',
            label: 'Last ten minutes',
            render: ({ health: { state, calls, failed } }) => (
              <span className={state === 'well' ? undefined : 'care'}>
                {calls === 0 ? 'not called' : `${STATES[state]}, ${count(calls)} calls, ${count(failed)} failed`}
              </span>
            ),
          },
          { name: 'mean', label: 'Mean', right: true, render: ({ health }) => <span className="mono">{milliseconds(health.meanMs)}</span> },
          {
            name: 'kept',
            label: 'From kept',
            right: true,
            render: ({ health: { calls, cached } }) => (
              <span className="mono">{calls === 0 ? '–' : `${Math.round((100 * cached) / calls)} %`}</span>
            ),
          },
          { name: 'mode', label: 'Mode', render: ({ mode }) => mode },
          {
            name: 'check',
            label: 'Check',
            render: ({ check }) => (check ? <Verdict well={check.ok} because={check.detail} /> : 'not checked'),
          },
        ]}
        drawer={{
          title: 'Upstream',
          size: 'xl',
          render: (name, close, items) => {
            const upstream = items.find((one) => one.name === name);
            return upstream && <OneUpstream key={name} upstream={upstream} onGone={close} />;
          },
        }}
      >
        <Button onClick={() => setAdding('1')}>Add upstream</Button>
      </ListPage>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="lg" title="Add upstream">
        {adding && (
          <UpstreamForm
            upstream={null}
            onSaved={(name) => {
              setAdding(null);
              setOpen(name);
            }}
          />
        )}
      </Drawer>
    </>
  );
}

function OneUpstream({ upstream, onGone }: { upstream: Upstream; onGone: () => void }) {
  const { params } = useEnvironment();
  const [editing, setEditing] = useAddressState('edit');
  const at = { params: { ...params, upstream: upstream.name } };
  const check = useChange(operations.upstreams.check);
  const forget = useChange(operations.upstreams.forget);
  const remove = useChange(operations.upstreams.remove);
  const { health, check: checked, identify, mode, recorded } = upstream;
  return (
    <Stack gap="lg">
      <Title order={2}>{upstream.name}</Title>
      <Facts
        of={[
          [
            'Address',
            <span key="a" className="mono">
              {upstream.address}
            </span>,
          ],
          ['Identified by', WAYS[identify.way]],
          ['Time limit', `${count(upstream.timeoutMs)} ms, ${upstream.tries} tries, ${upstream.atOnce} calls at a time`],
          ['Rests', `when ${Math.round(upstream.breaker.failingShare * 100)} % of at least ${upstream.breaker.least} calls fail`],
          [
            'Kept answers',
            upstream.cache ? `${count(health.keptBytes)} bytes, ${count(health.cached)} calls answered from them` : 'none are kept',
          ],
          ['Mode', mode === 'real' ? 'real' : `${mode}: ${count(recorded)} answers recorded`],
        ]}
      />
      <Group>
        <Button variant="default" loading={check.isPending} onClick={() => check.mutate(at)}>
          Check
        </Button>
        {checked && (
          <Text size="sm" className={checked.ok ? undefined : 'care'}>
            {checked.detail} <Moment at={checked.at} />
          </Text>
        )}
      </Group>
      <Trouble error={check.error} />
      <OperationsOf upstream={upstream} />
      <DescriptionOf upstream={upstream} />
      <TryUpstream upstream={upstream} />
      <UsesOf of={`upstream:${upstream.name}`} />
      {editing ? (
        <UpstreamForm upstream={upstream} onSaved={() => setEditing(null)} />
      ) : (
        <Group>
          <Button variant="default" onClick={() => setEditing('1')}>
            Change
          </Button>
          {recorded > 0 && (
            <Button variant="default" loading={forget.isPending} onClick={() => forget.mutate(at)}>
              Forget recorded answers
            </Button>
          )}
          <ConfirmedButton
            label="Delete"
            verb="Delete"
            question={`Delete upstream ${upstream.name}?`}
            consequence="Functions that call it fail, and apps that call it straight get not-found."
            change={remove}
            onConfirm={() => remove.mutate(at, { onSuccess: onGone })}
          />
        </Group>
      )}
    </Stack>
  );
}
