/** The ways out: what each still lacks, tried without sending to anyone. */
import { Alert, Anchor, Button, Drawer, Group, Stack, Text, Title } from '@mantine/core';
import { type Gateway, operations } from '@orchard/contract';
import { IconCircleCheck, IconCircleDashed } from '@tabler/icons-react';
import { Link } from 'react-router';
import { OFTEN, useCall, useChange } from '../api.js';
import { AddGateway } from '../gateways/addGateway.js';
import { Code, count, Facts, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { FromCode } from '../parts/fromCode.js';
import { useAddressState, usePlace } from '../place.js';

export const KIND_WORDS: Record<Gateway['kind'], string> = {
  'web-push': 'web push',
  certificate: 'push by certificate',
  token: 'push by token',
  smpp: 'SMS over SMPP',
  http: 'over HTTP',
  smtp: 'mail over SMTP',
};

export function GatewaysPage() {
  const { params } = usePlace();
  const [openName, setOpen] = useAddressState('open');
  const [adding, setAdding] = useAddressState('add');
  const gateways = useCall(operations.gateways.list, { params }, OFTEN);
  const open = gateways.data?.items.find(({ name }) => name === openName);
  return (
    <>
      <PageHead title="Gateways" hint="The ways out to push networks, SMS centres and mail servers">
        <Button size="xs" onClick={() => setAdding('1')}>
          Add a gateway
        </Button>
        <FromCode
          same={{
            command: `orchard gateway list --app ${params.app} --env ${params.environment}`,
            method: 'GET',
            path: `/manage/v1/apps/${params.app}/environments/${params.environment}/gateways`,
          }}
        />
      </PageHead>
      <Loaded of={gateways}>
        {({ items }) => (
          <section className="listing" aria-label="Gateways">
            <table>
              <thead>
                <tr>
                  {['Gateway', 'Kind', 'Stage', 'Client', 'Ready', 'Accepted, 24 h', 'Failed, 24 h', 'Credential ends'].map((label) => (
                    <th key={label} scope="col" className={label.includes('24 h') ? 'right' : undefined}>
                      {label}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {items.map((gateway) => (
                  <tr key={gateway.name} data-open={gateway.name === openName || undefined}>
                    <td>
                      <button type="button" className="open" onClick={() => setOpen(gateway.name)}>
                        {gateway.name}
                      </button>
                    </td>
                    <td>{KIND_WORDS[gateway.kind]}</td>
                    <td>{gateway.stage}</td>
                    <td>{gateway.client}</td>
                    <td className={gateway.ready ? undefined : 'care'}>
                      {gateway.ready ? 'yes' : gateway.readiness.find(({ ready }) => !ready)?.text}
                    </td>
                    <td className="right mono">{count(gateway.lastDay.accepted)}</td>
                    <td className={`right mono${gateway.lastDay.failed ? ' care' : ''}`}>{count(gateway.lastDay.failed)}</td>
                    <td>{gateway.credential.expiresAt && <Moment at={gateway.credential.expiresAt} />}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        )}
      </Loaded>
      <Drawer opened={Boolean(open)} onClose={() => setOpen(null)} position="right" size="lg" title="Gateway">
        {open && <OneGateway gateway={open} onGone={() => setOpen(null)} />}
      </Drawer>
      <Drawer opened={adding !== ''} onClose={() => setAdding(null)} position="right" size="lg" title="Add a gateway">
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

function OneGateway({ gateway, onGone }: { gateway: Gateway; onGone: () => void }) {
  const { params, base } = usePlace();
  const at = { params: { ...params, gateway: gateway.name } };
  const check = useChange(operations.gateways.check, ['gateways.']);
  const rotate = useChange(operations.gateways.rotate, ['gateways.']);
  const remove = useChange(operations.gateways.remove, ['gateways.']);
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
          title={latest.ok ? 'The latest check went well' : 'The latest check failed'}
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
          ['It ends', gateway.credential.expiresAt && <Moment key="e" at={gateway.credential.expiresAt} />],
          ['Client', gateway.client],
          ['Mapping', gateway.mapping && `version ${gateway.mapping.version}: ${gateway.mapping.title}`],
          ...Object.entries(gateway.settings)
            .filter(([name]) => name !== 'trust')
            .map(([name, value]): [string, string] => [name, typeof value === 'object' ? JSON.stringify(value) : String(value)]),
          ['Last 24 hours', `${count(gateway.lastDay.accepted)} accepted, ${count(gateway.lastDay.failed)} failed`],
          [
            'Look at',
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
        {isWebPush ? (
          <ConfirmedButton
            label="Make a new key"
            verb="Make it"
            question="Make a new web push key?"
            consequence="New subscriptions use it from now on. Devices that subscribed before are still reached with the key they have, until they subscribe anew."
            change={rotate}
            onConfirm={(done) => rotate.mutate(at, { onSuccess: done })}
          />
        ) : (
          <ConfirmedButton
            label="Remove"
            verb="Remove"
            question={`Remove gateway ${gateway.name}?`}
            consequence="Its credential is forgotten. What waits to go out through it fails, and devices of its client are not reached any more."
            change={remove}
            onConfirm={() => remove.mutate(at, { onSuccess: onGone })}
          />
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
    <ul className="ready-list" aria-label="What it needs">
      {items.map(({ what, ready, text }) => (
        <li key={what} className={ready ? undefined : 'care'}>
          {ready ? <IconCircleCheck size={16} aria-label="ready" /> : <IconCircleDashed size={16} aria-label="missing" />}
          {text}
        </li>
      ))}
    </ul>
  );
}
