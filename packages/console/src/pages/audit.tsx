/** The audit: who changed what, when, and from where. */
import { Anchor, Button, Group, Modal, SegmentedControl, Select, Stack, Text } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { type AuditChain, type AuditEntry, actorWords, addressOf, operations } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Code, Empty, Facts, Moment, Trouble } from '../parts/basics.js';
import { count } from '../parts/format.js';
import { coded } from '../parts/fromCode.js';
import { ListPage } from '../parts/listPage.js';
import { useListState } from '../parts/listState.js';
import { Verdict } from '../parts/verdict.js';
import { TableHead } from '../parts/tableHead.js';

const ALL = 'all';
const own = operations.audit;

export function AuditPage() {
  const { params } = useEnvironment();
  const session = useCall(operations.members.readSession, {});
  const [of, setOf] = useAddressState('of');
  const team = useCall(operations.members.list, {});
  const names = new Map((team.data?.items ?? []).map(({ id, name }) => [id, name]));
  const [by, setBy] = useAddressState('by');
  const place = of === ALL ? {} : { app: params.app, environment: params.environment };
  const also = { ...place, ...(by ? { by } : {}) };
  return (
    <ListPage
      title="Audit"
      hint="What members, tokens and the service changed, latest first"
      operation={own.list}
      also={also}
      label="Audit entries"
      initialSort="-at"
      idOf={({ id }) => id}
      example="kind = 'key' AND at > TIMESTAMP('2026-11-01T00:00:00Z')"
      presets={[
        { label: 'Keys and tokens', filter: "kind IN ('key', 'token')" },
        { label: 'Members and roles', filter: "kind IN ('member', 'second factor')" },
        { label: 'Sign-ins', filter: "action LIKE 'memberSessions.start%'" },
        { label: 'Failed', filter: "outcome = 'failed'" },
      ]}
      calls={[coded(own.export, { query: { ...also, format: 'ndjson' } }), coded(own.verify, { body: {} })]}
      empty={
        <Empty title="Nothing was changed yet">
          <Text>Each change of the team shows up here with what it was before and after.</Text>
        </Empty>
      }
      columns={[
        { name: 'at', label: 'Time', sortable: true, render: ({ at }) => <Moment at={at} /> },
        { name: 'actor', label: 'Who', render: ({ actor }) => actorWords(actor) },
        { name: 'action', label: 'Change', render: ({ summary, action }) => <span title={action}>{shortened(summary)}</span> },
        {
          name: 'subject',
          label: 'Of',
          render: ({ kind, subject }) => <Subject kind={kind} subject={subject} names={names} />,
        },
        ...(of === ALL ? [{ name: 'app', label: 'Environment', render: placeOf }] : []),
        { name: 'outcome', label: 'Outcome', render: ({ outcome }) => outcome !== 'done' && <Outcome of={outcome} /> },
      ]}
      drawer={{
        title: 'Audit entry',
        size: 'xl',
        render: (id, _close, items) => {
          const entry = items.find((one) => one.id === id);
          return entry && <OneEntry entry={entry} onBy={setBy} />;
        },
      }}
    >
      <SegmentedControl
        size="xs"
        aria-label="Entries of"
        value={of || 'here'}
        onChange={(value) => setOf(value === ALL ? ALL : null)}
        data={[
          { value: 'here', label: 'This environment' },
          { value: ALL, label: 'All' },
        ]}
      />
      <Select
        size="xs"
        w={150}
        aria-label="Changes by"
        placeholder="By anyone"
        clearable
        value={by || null}
        onChange={setBy}
        data={[...new Map([...(by ? [[by, 'another'] as const] : []), ...names])].map(([value, label]) => ({ value, label }))}
      />
      <Export also={also} />
      {session.data?.member.owner && <Verification />}
    </ListPage>
  );
}

/** Up to the first semicolon or comma: the rest of a summary says how. */
const shortened = (summary: string): string => summary.split(/[;,:]/)[0] as string;
const placeOf = ({ app, environment }: AuditEntry): string => [app, environment].filter(Boolean).join(' / ');

const LONGEST = 26;
/** What was changed: members by name, long ids by their end. */
function Subject({ kind, subject, names }: { kind: string; subject: string; names: ReadonlyMap<string, string> }) {
  const [id = '', ...rest] = subject.split('/');
  const known = names.get(id);
  if (known) return <span title={subject}>{[kind, 'of', known].filter((word) => kind !== 'member' || word !== 'of').join(' ')}</span>;
  const shown = subject.length > LONGEST && !rest.length ? `…${subject.slice(-12)}` : subject;
  return (
    <span title={subject}>
      {kind} <span className="mono">{shown}</span>
    </span>
  );
}

function Outcome({ of }: { of: AuditEntry['outcome'] }) {
  if (of === 'done') return <Verdict well yes="done" />;
  return <span className={of === 'failed' ? 'care' : undefined}>{of}</span>;
}

function OneEntry({ entry, onBy }: { entry: AuditEntry; onBy: (id: string) => void }) {
  const { base } = useEnvironment();
  const { actor, request } = entry;
  return (
    <Stack>
      <Text fw={600}>{shortened(entry.summary)}</Text>
      <Facts
        of={[
          ['Who', <Who key="w" of={actor} onBy={onBy} />],
          ['Time', <Moment key="t" at={entry.at} />],
          ['Of', `${entry.kind} ${entry.subject}`],
          ['Environment', placeOf(entry) || 'the installation'],
          ['Outcome', <Outcome key="o" of={entry.outcome} />],
          ['From', entry.address],
          [
            'Request',
            request && (
              <Anchor key="r" component={Link} to={`${base}/requests?open=${request}`} className="mono">
                {request}
              </Anchor>
            ),
          ],
          ['Entry', `${count(entry.number)} of ${entry.database === 'installation' ? 'the installation' : 'this environment'}`],
        ]}
      />
      <Document title="Before" of={entry.before} />
      <Document title={entry.outcome === 'begun' ? 'Asked for' : 'After'} of={entry.after} />
      {JSON.stringify([entry.before, entry.after]).includes('"withheld"') && (
        <Text size="sm" c="dimmed">
          Personal values are withheld. Their fingerprints show whether they changed.
        </Text>
      )}
    </Stack>
  );
}

/** Leads to everything else that they changed. */
function Who({ of, onBy }: { of: AuditEntry['actor']; onBy: (id: string) => void }) {
  const { id, kind } = of;
  const words = `${actorWords(of)} (${kind})`;
  if (id === null || !['member', 'token'].includes(kind)) return words;
  return (
    <Anchor component="button" type="button" title="Only changes by them" onClick={() => onBy(id)}>
      {words}
    </Anchor>
  );
}

function Document({ title, of }: { title: string; of: unknown }) {
  if (of === null || of === undefined) return null;
  return (
    <div>
      <Text size="sm" fw={600}>
        {title}
      </Text>
      <Code label={`Copy ${title.toLowerCase()}`}>{JSON.stringify(of, null, 2)}</Code>
    </div>
  );
}

function Export({ also }: { also: object }) {
  const { filter } = useListState('-at');
  const query = { ...also, ...(filter ? { filter } : {}) };
  return (
    <Group gap={4}>
      {(['csv', 'ndjson'] as const).map((format) => (
        <Button
          key={format}
          size="xs"
          variant="default"
          component="a"
          href={addressOf(own.export, { query: { ...query, format } })}
          download={`audit.${format}`}
        >
          {format.toUpperCase()}
        </Button>
      ))}
    </Group>
  );
}

/** Whether every chain is whole, with its head to note. */
function Verification() {
  const [opened, { open, close }] = useDisclosure();
  const verify = useChange(own.verify, []);
  return (
    <>
      <Button
        size="xs"
        variant="default"
        onClick={() => {
          open();
          verify.mutate({ body: {} });
        }}
      >
        Verify
      </Button>
      <Modal opened={opened} onClose={close} title="Verification of the audit" size="xl">
        <Text size="sm" mb="sm">
          Each entry has a MAC over itself and the one before it, under the key of the installation. The service logs the head of each chain
          every hour; a head that is no longer in its chain shows that entries were cut off.
        </Text>
        <Trouble error={verify.error} />
        {verify.data && <Chains of={verify.data.items} />}
        {verify.isPending && <Text size="sm">Checking every entry…</Text>}
      </Modal>
    </>
  );
}

function Chains({ of }: { of: AuditChain[] }) {
  return (
    <div className="listing">
      <table aria-label="Chains of the audit">
        <TableHead columns={['Chain', { right: 'Entries' }, 'Whole', 'Head']} />
        <tbody>
          {of.map((chain) => (
            <tr key={chain.database}>
              <td>{chain.app ? `${chain.app} / ${chain.environment}` : 'the installation'}</td>
              <td className="right mono">{count(chain.number)}</td>
              <td className="whole">
                <Verdict well={chain.ok} yes="whole" no="not whole" because={chain.faults.map(({ detail }) => detail).join(' ')} />
              </td>
              <td className="mono">{chain.mac}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
