/** Gateways: what each is missing, and a check that sends nothing. */
import { Alert, Anchor, Button, Drawer, Group, Stack, Text, Title } from '@mantine/core';
import { type Gateway, operations } from '@orchard/contract';
import { IconCircleCheck, IconCircleDashed } from '@tabler/icons-react';
import { Link } from 'react-router';
import { OFTEN, useChange } from '../api.js';
import { AddGateway } from '../gateways/addGateway.js';
import { ReplaceCredential } from '../gateways/credential.js';
import { Code, Empty, Facts, Moment, Trouble } from '../parts/basics.js';
import { count, inWords } from '../parts/format.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { ListPage } from '../parts/listPage.js';
import { Verdict } from '../parts/verdict.js';
import { useAddressState, useEnvironment } from '../environment.js';

export const KIND_WORDS: Record<Gateway['kind'], string> = {
  'web-push': 'web push',
  certificate: 'push by certificate',
  token: 'push by token',
  smpp: 'SMS over SMPP',
  http: 'over HTTP',
  smtp: 'mail over SMTP',
};

const lastDay = (name: 'accepted' | 'failed', label: string) => ({
  name,
  label,
  right: true,
  render: (gateway: Gateway) => (
    <span className={name === 'failed' && gateway.lastDay.failed ? 'mono care' : 'mono'}>{count(gateway.lastDay[name])}</span>
  ),
});

export function GatewaysPage() {
  const [, setOpen] = useAddressState('open');
  const [adding, setAdding] = useAddressState('add');
  return (
    <>
      <ListPage
        title="Gateways"
        hint="Connections to push networks, SMS centres and mail servers"
        operation={operations.gateways.list}
        {...OFTEN}
        label="Gateways"
        idOf={({ name }) => name}
        empty={
          <Empty title="No gateway yet">
            <Text>A gateway connects the environment to a push network, an SMS centre or a mail server.</Text>
          </Empty>
        }
        columns={[
          { name: 'name', label: 'Gateway', render: ({ name }) => name },
          { name: 'kind', label: 'Kind', render: ({ kind }) => KIND_WORDS[kind] },
          { name: 'stage', label: 'Stage', render: ({ stage }) => stage },
          { name: 'client', label: 'Client', render: ({ client }) => client },
          {
            name: 'ready',
            label: 'Ready',
            render: ({ ready, readiness }) => <Verdict well={ready} because={readiness.find((item) => !item.ready)?.text} />,
          },
          lastDay('accepted', 'Accepted, 24 h'),
          lastDay('failed', 'Failed, 24 h'),
          {
            name: 'expires',
            label: 'Credential expires',
            render: ({ credential }) => credential.expiresAt && <Moment at={credential.expiresAt} />,
          },
        ]}
        drawer={{
          title: 'Gateway',
          render: (name, close, items) => {
            const gateway = items.find((one) => one.name === name);
            return gateway && <OneGateway gateway={gateway} onGone={close} />;
          },
        }}
      >
        <Button onClick={() => setAdding('1')}>Add gateway</Button>
      </ListPage>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="lg" title="Add gateway">
        {adding && (
          <AddGateway
            onMade={(name) => {
              setAdding(null);
              setOpen(name);
            }}
          />
        )}
      </Drawer>
    </>
  );
}

const OF_ENVIRONMENT = { check: operations.gateways.check, remove: operations.gateways.remove };
const OF_INSTALLATION = { check: operations.memberWays.checkGateway, remove: operations.memberWays.removeGateway };

/** @param installation whether it is a gateway of the installation, instead of the environment */
export function OneGateway({ gateway, onGone, installation = false }: { gateway: Gateway; onGone: () => void; installation?: boolean }) {
  const { params, base } = useEnvironment();
  const at = { params: { ...params, gateway: gateway.name } };
  const calls = installation ? OF_INSTALLATION : OF_ENVIRONMENT;
  const check = useChange(calls.check as typeof operations.gateways.check);
  const rotate = useChange(operations.gateways.rotate);
  const remove = useChange(calls.remove as typeof operations.gateways.remove);
  const latest = check.data ?? gateway.check;
  const isWebPush = gateway.kind === 'web-push';
  return (
    <Stack>
      <Title order={2}>
        {gateway.name}
        <Text span c="dimmed" size="sm">
          {' '}
          {KIND_WORDS[gateway.kind]}, {gateway.stage}
        </Text>
      </Title>
      <Readiness items={gateway.readiness} />
      {latest && (
        <Alert
          color={latest.ok ? 'viridian' : 'persimmon'}
          variant="light"
          title={latest.ok ? 'The latest check passed' : 'The latest check failed'}
          styles={{ title: { color: latest.ok ? 'inherit' : 'var(--care)' } }}
        >
          {latest.steps.map((step) => (
            <Text key={step.what} size="sm">
              {step.what}: {step.text}
            </Text>
          ))}
          <Text size="sm" c="dimmed">
            <Moment at={latest.at} />
          </Text>
        </Alert>
      )}
      <Trouble error={check.error ?? rotate.error} />
      <Facts
        of={[
          ['Credential', gateway.credential.text],
          ['Expires', gateway.credential.expiresAt && <Moment key="e" at={gateway.credential.expiresAt} />],
          ['Client', gateway.client],
          ['Mapping', gateway.mapping && `version ${gateway.mapping.version}: ${gateway.mapping.title}`],
          ...Object.entries(gateway.settings)
            .filter(([name]) => name !== 'trust')
            .map(([name, value]): [string, string] => [inWords(name), typeof value === 'object' ? JSON.stringify(value) : String(value)]),
          ['Last 24 hours', `${count(gateway.lastDay.accepted)} accepted, ${count(gateway.lastDay.failed)} failed`],
          [
            'See also',
            gateway.client && (
              <Anchor key="d" component={Link} to={`${base}/devices?filter=${encodeURIComponent(`client = '${gateway.client}'`)}`}>
                devices of its client
              </Anchor>
            ),
          ],
        ]}
      />
      <Group>
        <Button loading={check.isPending} onClick={() => check.mutate(at)}>
          Check now
        </Button>
        {isWebPush && installation ? null : isWebPush ? (
          <ConfirmedButton
            label="Rotate key"
            verb="Rotate key"
            question="Rotate the web push key?"
            consequence="New subscriptions use it from now on. Devices subscribed earlier stay reachable with their key until they subscribe again."
            change={rotate}
            onConfirm={(done) => rotate.mutate(at, { onSuccess: done })}
          />
        ) : (
          <>
            {!installation && <ReplaceCredential gateway={gateway} />}
            <ConfirmedButton
              label="Remove"
              verb="Remove"
              question={`Remove gateway ${gateway.name}?`}
              consequence={
                installation
                  ? 'Its credential is deleted. Members are no longer reached through it.'
                  : 'Its credential is deleted. Queued messages fail, and devices of its client become unreachable.'
              }
              change={remove}
              onConfirm={() => remove.mutate(at, { onSuccess: onGone })}
            />
          </>
        )}
      </Group>
      {gateway.mapping && (
        <Code label="Copy this command">{`orchard gateway map ${gateway.name} > mapping.json   # change it, then:\norchard gateway map ${gateway.name} mapping.json`}</Code>
      )}
    </Stack>
  );
}

/** What must be so before the first message can arrive. */
export function Readiness({ items }: { items: Gateway['readiness'] }) {
  if (items.length === 0) return null;
  return (
    <ul className="ready-list" aria-label="Readiness">
      {items.map(({ what, ready, text }) => (
        <li key={what} className={ready ? undefined : 'care'}>
          {ready ? <IconCircleCheck size={16} aria-label="ready" /> : <IconCircleDashed size={16} aria-label="missing" />}
          {text}
        </li>
      ))}
    </ul>
  );
}
