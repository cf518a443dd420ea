/** One record beside the table: its fields, references from and to it, its history, and its access. */
import { Anchor, Badge, Button, Group, Stack, Tabs, Text } from '@mantine/core';
import { actorWords, type Collection, operations, type OrchardRecord, type RecordVersion } from '@orchard/contract';
import { type Json, type JsonObject, RECORD_ACTIONS } from '@orchard/core';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { RecordForm } from '../parts/recordForm.js';
import { useEnvironment } from '../environment.js';
import { ruleWords } from '../pages/collections.js';
import { TryRecordRule } from './tryRule.js';
import { showValue } from './value.js';

const REFRESH = [operations.managedRecords, operations.collections];

export function NewRecord({ collection, onMade }: { collection: Collection; onMade: (id: string) => void }) {
  const { params, details } = useEnvironment();
  const create = useChange(operations.managedRecords.create, REFRESH);
  return (
    <Stack>
      <RecordForm
        fields={collection.fields}
        record={null}
        open={details?.mode === 'open'}
        saving={create.isPending}
        saveLabel="Store"
        onSave={(body) =>
          create.mutate({ params: { ...params, collection: collection.name }, body }, { onSuccess: ({ id }) => onMade(id) })
        }
      />
      <Trouble error={create.error} />
    </Stack>
  );
}

export function OneRecord({ collection, all, id, onGone }: { collection: Collection; all: Collection[]; id: string; onGone: () => void }) {
  const { params } = useEnvironment();
  const at = { ...params, collection: collection.name, id };
  const backward = all.flatMap((from) => from.fields.filter(({ to }) => to === collection.name).map(({ name }) => `${from.name}(${name})`));
  const forward = collection.fields.filter(({ type }) => type === 'reference').map(({ name }) => name);
  const include = [...forward, ...backward].slice(0, 10).join(',');
  const record = useCall(operations.managedRecords.read, { params: at, query: include ? { include } : {} });
  return (
    <Tabs defaultValue="fields" keepMounted={false}>
      <Tabs.List mb="sm">
        <Tabs.Tab value="fields">Fields</Tabs.Tab>
        <Tabs.Tab value="history">History</Tabs.Tab>
        <Tabs.Tab value="access">Access</Tabs.Tab>
      </Tabs.List>
      <Tabs.Panel value="fields">
        <Loaded of={record}>{(current) => <Fields collection={collection} record={current} at={at} onGone={onGone} />}</Loaded>
      </Tabs.Panel>
      <Tabs.Panel value="history">
        <History at={at} />
      </Tabs.Panel>
      <Tabs.Panel value="access">
        <Stack gap="md">
          <dl className="facts">
            {RECORD_ACTIONS.map((action) => (
              <Fact key={action} name={action} value={ruleWords(collection.rules[action])} />
            ))}
          </dl>
          <TryRecordRule collection={collection} record={id} />
        </Stack>
      </Tabs.Panel>
    </Tabs>
  );
}

const Fact = ({ name, value }: { name: string; value: string }) => (
  <>
    <dt>{name}</dt>
    <dd>{value}</dd>
  </>
);

type At = { app: string; environment: string; collection: string; id: string };

function Fields({ collection, record, at, onGone }: { collection: Collection; record: OrchardRecord; at: At; onGone: () => void }) {
  const { details } = useEnvironment();
  const patch = useChange(operations.managedRecords.patch, REFRESH);
  const remove = useChange(operations.managedRecords.remove, REFRESH);
  return (
    <Stack>
      <Text size="sm" c="dimmed">
        Version {record.version}, created <Moment at={record.createdAt} />, changed <Moment at={record.updatedAt} />
        {record.ownerId ? (
          <>
            , owned by <OwnerLink id={record.ownerId} />
          </>
        ) : (
          ', without an owner'
        )}
      </Text>
      <References collection={collection} record={record} />
      <RecordForm
        key={`${at.id} ${record.version}`}
        fields={collection.fields}
        record={record}
        open={details?.mode === 'open'}
        saving={patch.isPending}
        saveLabel="Save"
        onSave={(body) => patch.mutate({ params: at, body, headers: { 'If-Match': `"${record.version}"` } })}
      />
      <Trouble error={patch.error} />
      <Group justify="flex-end">
        <ConfirmedButton
          label="Delete record"
          verb="Delete"
          question="Delete this record?"
          consequence={`${collection.name} / ${at.id} is deleted. You can restore it from its history for 30 days.`}
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}

function OwnerLink({ id }: { id: string }) {
  const { base } = useEnvironment();
  return (
    <Anchor component={Link} size="sm" className="mono" to={`${base}/users?open=${id}`}>
      …{id.slice(-12)}
    </Anchor>
  );
}

/** A name to show for a record: its name or title where it has one. */
const nameOf = (record: JsonObject): string => String(record.name ?? record.title ?? record.email ?? record.id);

function References({ collection, record }: { collection: Collection; record: OrchardRecord }) {
  const { base } = useEnvironment();
  const included = Object.entries((record._included ?? {}) as Record<string, JsonObject | null>);
  if (included.length === 0) return null;
  const link = (to: string, inner: JsonObject) => (
    <Anchor
      key={String(inner.id)}
      component={Link}
      size="sm"
      to={to === 'users' ? `${base}/users?open=${inner.id}` : `${base}/data/${to}?open=${encodeURIComponent(String(inner.id))}`}
    >
      {nameOf(inner)}
    </Anchor>
  );
  return (
    <dl className="facts">
      {included.map(([step, found]) => {
        const [, from, by] = /^(\w+)\((\w+)\)/.exec(step) ?? [];
        const field = collection.fields.find(({ name }) => name === step);
        const list = from ? ((found?.items ?? []) as JsonObject[]) : found ? [found] : [];
        return (
          <div key={step} style={{ display: 'contents' }}>
            <dt>{from ? `${from}, by their ${by}` : step}</dt>
            <dd>
              {list.length === 0 && (
                <Text span size="sm" c="dimmed">
                  none
                </Text>
              )}
              <Group gap="xs">{list.slice(0, 8).map((inner) => link(from ?? (field?.to as string), inner))}</Group>
              {list.length > 8 && (
                <Anchor component={Link} size="sm" to={`${base}/data/${from}?filter=${encodeURIComponent(`${by} = '${record.id}'`)}`}>
                  {found?.more ? 'more than 50' : `all ${list.length}`}
                </Anchor>
              )}
            </dd>
          </div>
        );
      })}
    </dl>
  );
}

function History({ at }: { at: At }) {
  const history = useCall(operations.managedRecords.history, { params: at });
  const restore = useChange(operations.managedRecords.restore, REFRESH);
  return (
    <Loaded of={history}>
      {({ items, more }) => (
        <Stack gap="sm">
          {items.length === 0 && <Text c="dimmed">No changes in the last 30 days.</Text>}
          {items.map((version, i) => (
            <Version
              key={version.entry}
              version={version}
              latest={i === 0}
              busy={restore.isPending}
              onRestore={() => restore.mutate({ params: at, body: { entry: version.entry } })}
            />
          ))}
          {more && <Text c="dimmed">Older versions: orchard record history … --json</Text>}
          <Trouble error={restore.error} />
        </Stack>
      )}
    </Loaded>
  );
}

const ACTIONS = { create: 'created', update: 'changed', delete: 'deleted' } as const;

function Version({
  version: { version, action, at, by, changes },
  latest,
  busy,
  onRestore,
}: {
  version: RecordVersion;
  latest: boolean;
  busy: boolean;
  onRestore: () => void;
}) {
  const said = (value: Json) => (value === null ? 'no value' : showValue(value));
  return (
    <section className="panel">
      <Group justify="space-between">
        <Text size="sm">
          <Badge variant="outline" size="sm" mr={6} color="gray" c="inherit">
            {version}
          </Badge>
          {ACTIONS[action]} <Moment at={at} /> by {actorWords(by)}
        </Text>
        {(!latest || action === 'delete') && (
          <Button size="compact-xs" variant="default" loading={busy} onClick={onRestore}>
            Restore this version
          </Button>
        )}
      </Group>
      <dl className="facts" style={{ marginTop: '.35rem' }}>
        {changes.map(({ field, from, to }) => (
          <Fact
            key={field}
            name={field}
            value={action === 'update' ? `${said(from)} → ${said(to)}` : said(action === 'create' ? to : from)}
          />
        ))}
      </dl>
    </section>
  );
}
