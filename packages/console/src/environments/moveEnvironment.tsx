/** Moving an environment to another database server or another installation: told first, shown while it happens. */
import { Alert, Anchor, Button, Group, List, Modal, NativeSelect, PasswordInput, Stack, Text, TextInput } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { type Environment, type MoveDocument, operations } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { bytes } from '../parts/format.js';

const own = operations.moves;
const SOON_MS = 700;
const MAIN = 'main';
const ELSEWHERE = 'another installation';
const named = (server: string | null): string => server ?? MAIN;
const targetOf = ({ to, installation }: Pick<MoveDocument, 'to' | 'installation'>): string => installation ?? named(to);
const STATES: Record<MoveDocument['state'], string> = {
  copying: 'is being copied',
  'catching-up': 'is being caught up with',
  switching: 'is nearly over',
  done: 'is there',
  failed: 'failed',
  undone: 'was undone',
};

/** Where the environment is, and where it goes. */
export function MoveEnvironment({ environment }: { environment: Environment }) {
  const { app, name, server, role, movedTo } = environment;
  const params = { app, environment: name };
  const servers = useCall(own.servers, {});
  const moves = useCall(own.list, { params }, { refetchInterval: SOON_MS * 5 });
  const [asking, { open, close }] = useDisclosure();
  if (movedTo !== null) return <MovedAway environment={environment} to={movedTo} />;
  if (!servers.data) return null;
  const last = moves.data?.items[0];
  const others = servers.data.items.filter((one) => one !== server);
  return (
    <Stack gap={4} mt="xs">
      <Text size="sm">
        On the database server <span className="mono">{named(server)}</span> of this installation
        {role === 'owner' && !(last && !last.endedAt) && (
          <>
            {' · '}
            <Anchor component="button" onClick={open}>
              Move …
            </Anchor>
          </>
        )}
      </Text>
      {last && <LastMove params={params} id={last.id} />}
      <Modal opened={asking} onClose={close} title={`Move ${app}/${name}`} size="lg">
        {asking && <Ask params={params} others={others} onBegun={close} />}
      </Modal>
    </Stack>
  );
}

function LastMove({ params, id }: { params: { app: string; environment: string }; id: string }) {
  const [isOver, setOver] = useState(false);
  const answer = useCall(own.read, { params: { ...params, move: id } }, isOver ? {} : { refetchInterval: SOON_MS });
  const undo = useChange(own.undo);
  const move = answer.data;
  if (!move) return null;
  if (move.endedAt && !isOver) setOver(true);
  if (move.endedAt && move.state !== 'failed')
    return move.state === 'undone' || move.installation !== null ? null : (
      <Text size="sm" c="dimmed">
        Moved here from {named(move.from)} <Moment at={move.endedAt} />
        {move.pauseMs !== null && `; writes were held for ${move.pauseMs} ms`}.
      </Text>
    );
  return (
    <Group gap="xs" role="status">
      <Text size="sm" className={move.state === 'failed' ? 'care' : undefined}>
        The move to {targetOf(move)} {STATES[move.state]}: {move.problem ?? move.doing ?? 'about to begin'}
        {!move.endedAt && ` (${move.rows.toLocaleString('en')} rows)`}
      </Text>
      {!move.endedAt && move.state !== 'switching' && (
        <Button
          size="compact-xs"
          variant="default"
          loading={undo.isPending}
          onClick={() => undo.mutate({ params: { ...params, move: id } })}
        >
          Undo
        </Button>
      )}
      <Trouble error={undo.error} />
    </Group>
  );
}

function MovedAway({ environment: { app, name }, to }: { environment: Environment; to: string }) {
  return (
    <Alert mt="xs" title={`Moved to ${to}`}>
      Calls of its apps are passed on there. Lead the name that apps use to {to} when it suits you. Then delete it here, by{' '}
      <span className="mono" style={{ whiteSpace: 'nowrap' }}>
        orchard env delete --app {app} --env {name}
      </span>
      : that ends the passing on, and removes the data that was left here.
    </Alert>
  );
}

function Ask({
  params,
  others,
  onBegun,
}: {
  params: { app: string; environment: string };
  others: (string | null)[];
  onBegun: () => void;
}) {
  const [to, setTo] = useState(others.length > 0 ? named(others[0] ?? null) : ELSEWHERE);
  const [address, setAddress] = useState('');
  const [ticket, setTicket] = useState('');
  const isAway = to === ELSEWHERE;
  const server = to === MAIN ? null : to;
  const isAddress = /^https?:\/\/[^/]+/.test(address);
  const query = isAway ? { installation: address } : server ? { server } : {};
  const plan = useCall(own.plan, { params, query }, { enabled: !isAway || isAddress });
  const body = isAway ? { installation: address, ticket } : { server };
  const begin = useChange(own.begin, [own, operations.apps]);
  return (
    <Stack>
      <NativeSelect
        label="To"
        value={to}
        onChange={({ currentTarget }) => setTo(currentTarget.value)}
        data={[...others.map((other) => ({ value: named(other), label: `the server ${named(other)}` })), ELSEWHERE]}
        w="18rem"
      />
      {isAway && (
        <>
          <TextInput
            label="Its address"
            placeholder="https://orchard.example"
            value={address}
            onChange={({ currentTarget }) => setAddress(currentTarget.value.trim())}
          />
          <PasswordInput
            label="Ticket"
            description="Made there: Environments, Receive an environment"
            autoComplete="off"
            value={ticket}
            onChange={({ currentTarget }) => setTicket(currentTarget.value.trim())}
          />
        </>
      )}
      {(!isAway || isAddress) && <Plan of={plan} />}
      <Trouble error={begin.error} />
      <Group justify="flex-end">
        <Button
          loading={begin.isPending}
          disabled={!plan.data || (isAway && ticket === '')}
          onClick={() => begin.mutate({ params, body }, { onSuccess: onBegun })}
        >
          Move it
        </Button>
      </Group>
    </Stack>
  );
}

function Plan({ of }: { of: ReturnType<typeof useCall<typeof own.plan>> }) {
  return (
    <Loaded of={of}>
      {({ steps, stays, bytes: size, durationMs }) => (
        <>
          <Text fw={600}>
            What happens, in about {Math.ceil(durationMs / 1000)} s ({bytes(size)})
          </Text>
          <List type="ordered" size="sm">
            {steps.map((step) => (
              <List.Item key={step}>{step}</List.Item>
            ))}
          </List>
          <Text fw={600}>What stays as it is</Text>
          <List size="sm">
            {stays.map((line) => (
              <List.Item key={line}>{line}</List.Item>
            ))}
          </List>
        </>
      )}
    </Loaded>
  );
}
