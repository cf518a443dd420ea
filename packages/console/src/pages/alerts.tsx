/** Alerts: who is told of what, who is on call, and the webhooks. */
import { ActionIcon, Badge, Button, Group, Modal, Stack, Text, TextInput, Title } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { ALERT_CAUSES, type AlertRule, type AlertSettings, operations, type TeamMember } from '@orchard/contract';
import { IconTrash } from '@tabler/icons-react';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { RotaForm } from '../incidents/rotaForm.js';
import { RuleForm } from '../incidents/ruleForm.js';
import { useEnvironment } from '../environment.js';
import { Code, Empty, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { TableHead } from '../parts/tableHead.js';
import { Verdict } from '../parts/verdict.js';

const own = operations.alerts;

export function AlertsPage() {
  const { params, details } = useEnvironment();
  const settings = useCall(own.read, { params }, { refetchInterval: 15_000 });
  const team = useCall(operations.members.list, {});
  const mayChange = details?.role === 'maintainer' || details?.role === 'owner';
  return (
    <Stack gap="lg">
      <PageHead title="Alerts" hint="Who is told of what, on the ways they have set up under Account">
        <FromCode calls={[coded(own.read, { params })]} />
      </PageHead>
      <Loaded of={settings}>{(read) => <Sections of={read} members={team.data?.items ?? []} mayChange={mayChange} />}</Loaded>
    </Stack>
  );
}

type Props = { of: AlertSettings; members: readonly TeamMember[]; mayChange: boolean };

function Sections({ of, members, mayChange }: Props) {
  const { params } = useEnvironment();
  const replace = useChange(own.replace);
  const store = (changes: Partial<Pick<AlertSettings, 'rules' | 'rotas'>>, done?: () => void) =>
    replace.mutate({ params, body: { rules: of.rules, rotas: of.rotas, ...changes } }, { onSuccess: () => done?.() });
  return (
    <>
      <OnCall of={of} />
      <Trouble error={replace.error} />
      <Rules of={of} members={members} mayChange={mayChange} store={store} />
      <Rotas of={of} members={members} mayChange={mayChange} store={store} />
      <Hooks of={of} mayChange={mayChange} />
    </>
  );
}

type Store = (changes: Partial<Pick<AlertSettings, 'rules' | 'rotas'>>, done?: () => void) => void;

function OnCall({ of: { onCall } }: { of: AlertSettings }) {
  if (onCall.length === 0) return null;
  return (
    <Group gap="xl">
      {onCall.map(({ rota, member, replaces, until }) => (
        <div key={rota}>
          <span className="number" style={{ fontSize: '1.3rem' }}>
            {member?.name ?? 'nobody'}
          </span>
          <Text size="sm" c="dimmed">
            on call by {rota}
            {replaces && `, for ${replaces.name}`}, until <Moment at={until} />
          </Text>
        </div>
      ))}
    </Group>
  );
}

export function targetWords(target: AlertRule['steps'][number][number], members: readonly TeamMember[]): string {
  switch (target.to) {
    case 'member':
      return members.find(({ id }) => id === target.member)?.name ?? 'a former member';
    case 'role':
      return `every ${target.role}`;
    case 'on-call':
      return `on call (${target.rota})`;
    case 'webhook':
      return `webhook ${target.webhook}`;
  }
}

function Rules({ of, members, mayChange, store }: Props & { store: Store }) {
  const { params } = useEnvironment();
  const test = useChange(own.test, []);
  const [opened, { open, close }] = useDisclosure();
  return (
    <section className="panel">
      <Group justify="space-between" mb="xs">
        <Title order={2}>Rules</Title>
        {mayChange && (
          <Button size="xs" onClick={open}>
            New rule
          </Button>
        )}
      </Group>
      {of.rules.length === 0 ? (
        <Empty title="Nobody is told">
          <Text>A rule says of what, whom, and who is next when nobody answers.</Text>
        </Empty>
      ) : (
        <div className="listing">
          <table>
            <TableHead columns={['Rule', 'When', 'First', 'Then', { right: 'Next after' }, { right: 'Reminder' }, { hidden: 'Actions' }]} />
            <tbody>
              {of.rules.map((rule) => {
                const [first = [], ...later] = rule.steps;
                const words = (step: AlertRule['steps'][number]) => step.map((one) => targetWords(one, members)).join(', ');
                return (
                  <tr key={rule.name}>
                    <td className="mono">{rule.name}</td>
                    <td className="whole">{rule.on === 'condition' ? `the environment is ${rule.from}` : ALERT_CAUSES[rule.on]}</td>
                    <td className="whole">{words(first)}</td>
                    <td className="whole">{later.map(words).join(', then ') || '–'}</td>
                    <td className="right mono">{later.length > 0 ? `${rule.nextAfterMin} min` : '–'}</td>
                    <td className="right mono">{rule.remindAfterMin} min</td>
                    <td>
                      {mayChange && (
                        <Group gap={4} wrap="nowrap">
                          <Button
                            size="compact-xs"
                            variant="default"
                            loading={test.isPending && test.variables?.params.rule === rule.name}
                            onClick={() => test.mutate({ params: { ...params, rule: rule.name } })}
                          >
                            Test
                          </Button>
                          <ActionIcon
                            size="sm"
                            variant="subtle"
                            color="gray"
                            aria-label={`Remove the rule ${rule.name}`}
                            onClick={() => store({ rules: of.rules.filter((one) => one !== rule) })}
                          >
                            <IconTrash size={14} />
                          </ActionIcon>
                        </Group>
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
      <Trouble error={test.error} />
      {test.data && (
        <Text size="sm" mt="xs" role="status">
          {test.data.items.length === 0
            ? 'There is nobody to tell.'
            : test.data.items.map(({ to, ok, detail }) => `${to}: ${ok ? `sent, ${detail}` : detail}`).join('. ')}
        </Text>
      )}
      <Modal opened={opened} onClose={close} title="New rule" size="lg">
        <RuleForm settings={of} members={members} onAdd={(rule) => store({ rules: [...of.rules, rule] }, close)} />
      </Modal>
    </section>
  );
}

function Rotas({ of, members, mayChange, store }: Props & { store: Store }) {
  const [opened, { open, close }] = useDisclosure();
  const nameOf = (id: string) => members.find((one) => one.id === id)?.name ?? 'a former member';
  return (
    <section className="panel">
      <Group justify="space-between" mb="xs">
        <Title order={2}>Rotas</Title>
        {mayChange && (
          <Button size="xs" variant="default" onClick={open}>
            New rota
          </Button>
        )}
      </Group>
      {of.rotas.length === 0 && <Text size="sm">None. A rota says who is on call in turn, and a rule can tell whoever it is.</Text>}
      {of.rotas.map((rota) => (
        <Group key={rota.name} gap="sm" mb={6}>
          <Badge variant="outline" color="gray" c="inherit">
            {rota.name}
          </Badge>
          <Text size="sm">
            {rota.members.map(nameOf).join(' → ')}, {rota.days} {rota.days === 1 ? 'day' : 'days'} each, hand-over at {rota.handOver} (
            {rota.timeZone})
          </Text>
          {mayChange && (
            <>
              <Replacement
                members={members}
                onAdd={(one) =>
                  store({
                    rotas: of.rotas.map((other) => (other === rota ? { ...rota, replacements: [...rota.replacements, one] } : other)),
                  })
                }
              />
              <ActionIcon
                size="sm"
                variant="subtle"
                color="gray"
                aria-label={`Remove the rota ${rota.name}`}
                onClick={() => store({ rotas: of.rotas.filter((one) => one !== rota) })}
              >
                <IconTrash size={14} />
              </ActionIcon>
            </>
          )}
          {rota.replacements.map(({ date, member }) => (
            <Text key={date} size="sm" c="dimmed">
              {date}: {nameOf(member)}
            </Text>
          ))}
        </Group>
      ))}
      <Modal opened={opened} onClose={close} title="New rota">
        <RotaForm members={members} onAdd={(rota) => store({ rotas: [...of.rotas, rota] }, close)} />
      </Modal>
    </section>
  );
}

/** Somebody else for a day. */
function Replacement({ members, onAdd }: { members: readonly TeamMember[]; onAdd: (one: { date: string; member: string }) => void }) {
  const [date, setDate] = useState('');
  return (
    <Group gap={4}>
      <TextInput
        size="xs"
        type="date"
        aria-label="Day of a replacement"
        value={date}
        onChange={({ currentTarget }) => setDate(currentTarget.value)}
      />
      {date && (
        <select
          className="cell-editor"
          aria-label="Who replaces"
          defaultValue=""
          onChange={({ currentTarget }) => (onAdd({ date, member: currentTarget.value }), setDate(''))}
        >
          <option value="" disabled>
            who?
          </option>
          {members.map(({ id, name }) => (
            <option key={id} value={id}>
              {name}
            </option>
          ))}
        </select>
      )}
    </Group>
  );
}

function Hooks({ of, mayChange }: { of: AlertSettings; mayChange: boolean }) {
  const { params } = useEnvironment();
  const [secret, setSecret] = useState('');
  const add = useOperationForm(own.addWebhook, {
    initial: { name: '', url: '' },
    input: (body) => ({ params, body }),
    onDone: ({ secret: made }) => setSecret(made),
  });
  const remove = useChange(own.removeWebhook);
  return (
    <section className="panel">
      <Title order={2} mb="xs">
        Webhooks
      </Title>
      <Trouble error={remove.error} />
      {of.webhooks.map(({ name, url, lastAt, lastFailure }) => (
        <Group key={name} gap="sm" mb={4}>
          <span className="mono">{name}</span>
          <span className="mono">{url}</span>
          {lastAt && (
            <Text size="sm">
              <Verdict well={lastFailure === null} yes="answered" no="failed" because={lastFailure} /> <Moment at={lastAt} />
            </Text>
          )}
          {mayChange && (
            <ActionIcon
              size="sm"
              variant="subtle"
              color="gray"
              aria-label={`Remove the webhook ${name}`}
              onClick={() => remove.mutate({ params: { ...params, webhook: name } })}
            >
              <IconTrash size={14} />
            </ActionIcon>
          )}
        </Group>
      ))}
      {mayChange && (
        <FormOf of={add} verb="Add webhook" row>
          <TextInput label="Name" placeholder="ops" required {...add.form.getInputProps('name')} />
          <TextInput label="Address" placeholder="https://ops.quillfell.example/hook" w={320} required {...add.form.getInputProps('url')} />
        </FormOf>
      )}
      <Modal opened={secret !== ''} onClose={() => setSecret('')} title="The secret of the webhook">
        <Text size="sm" mb="sm">
          It is shown this once. Each message is signed with it: RFC 9421, hmac-sha256.
        </Text>
        <Code label="Copy the secret">{secret}</Code>
      </Modal>
    </section>
  );
}
