/** One objective: its definition, what other limits would have said, and its versions. */
import { Anchor, Button, Group, Stack, Text, TextInput, Title } from '@mantine/core';
import { actorWords, type Objective, operations, Problem } from '@orchard/contract';
import { useState } from 'react';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { type KnownSubjects, LimitFields, SubjectFields } from './limitFields.js';
import { Trial } from './trial.js';

type Place = { app: string; environment: string };
export const NEW = 'new objective';
const BLANK: Objective = {
  name: '',
  subject: { of: 'calls' },
  measure: { of: 'within', ms: 500 },
  windowMs: 300_000,
  stressed: 0.95,
  failing: 0.8,
  leastCalls: 20,
  leaveOut: [],
};

export function ObjectiveEditor({ place, name, onClose }: { place: Place; name: string; onClose: () => void }) {
  const set = useCall(operations.objectives.read, { params: place });
  return (
    <Loaded of={set}>
      {({ items, version }) => {
        const found = name === NEW ? BLANK : items.find((one) => one.name === name);
        if (!found) return <Text>There is no objective {name} any more.</Text>;
        return (
          <Editor
            key={`${version} ${name}`}
            place={place}
            present={found}
            others={items.filter((one) => one.name !== name)}
            version={version}
            isNew={name === NEW}
            onClose={onClose}
          />
        );
      }}
    </Loaded>
  );
}

type EditorProps = { place: Place; present: Objective; others: Objective[]; version: number; isNew: boolean; onClose: () => void };

function Editor({ place, present, others, version, isNew, onClose }: EditorProps) {
  const [draft, setDraft] = useState(present);
  const [why, setWhy] = useState('');
  const known = useKnownSubjects(place);
  const replace = useChange(operations.objectives.replace, [operations.objectives, operations.condition]);
  const change = (changes: Partial<Objective>) => setDraft((before) => ({ ...before, ...changes }));
  const isChanged = JSON.stringify(draft) !== JSON.stringify(present);
  // The editor is made anew for the new version, so what follows must not hang on this one.
  const store = (items: Objective[]) =>
    void replace.mutateAsync({ params: place, body: { items, version, ...(why ? { why } : {}) } }).then(onClose, () => undefined);
  const errors = errorsAt(replace.error, others.length);
  return (
    <Stack>
      <Text size="sm" c="dimmed">
        {place.app} / {place.environment}
      </Text>
      <Group align="flex-start" gap="sm">
        {isNew && (
          <TextInput
            label="Name"
            w={200}
            required
            description="Lower-case letters, digits and -"
            inputWrapperOrder={['label', 'input', 'description', 'error']}
            value={draft.name}
            error={errors.name}
            onChange={({ currentTarget }) => change({ name: currentTarget.value })}
          />
        )}
        <TextInput
          label="Title"
          w={280}
          value={draft.title ?? ''}
          onChange={({ currentTarget: { value } }) => {
            const { title: _, ...rest } = draft;
            setDraft(value ? { ...rest, title: value } : rest);
          }}
        />
      </Group>
      <SubjectFields of={draft} known={known} onChange={change} />
      <LimitFields of={draft} onChange={change} errors={errors} />
      <Trial place={place} objective={draft} isChanged={isChanged && !isNew} />
      <TextInput
        label="Why"
        description="Kept with the version"
        inputWrapperOrder={['label', 'input', 'description', 'error']}
        value={why}
        onChange={({ currentTarget }) => setWhy(currentTarget.value)}
      />
      <Trouble error={Object.keys(errors).length > 0 ? null : replace.error} />
      <Group justify="space-between">
        {isNew ? (
          <span />
        ) : (
          <ConfirmedButton
            label="Remove"
            verb="Remove the objective"
            question={`Remove ${present.title ?? present.name}?`}
            consequence="Nothing will say any more whether it holds. Earlier versions are kept."
            change={replace}
            onConfirm={() => store(others)}
          />
        )}
        <Button disabled={!isChanged || (isNew && draft.name === '')} loading={replace.isPending} onClick={() => store([...others, draft])}>
          {isNew ? 'Add objective' : 'Store as a new version'}
        </Button>
      </Group>
      {!isNew && <Versions place={place} name={present.name} />}
    </Stack>
  );
}

/** Errors by field of the objective that is edited: the last one of the list. */
function errorsAt(error: unknown, index: number): Record<string, string> {
  if (!(error instanceof Problem)) return {};
  const prefix = `body.items.${index}.`;
  return Object.fromEntries(
    (error.extras.fields ?? [])
      .filter(({ path }) => path.startsWith(prefix))
      .map(({ path, problem }) => [path.slice(prefix.length), problem]),
  );
}

function useKnownSubjects(params: Place): KnownSubjects {
  const clients = useCall(operations.clients.list, { params });
  const usage = useCall(operations.telemetry.usage, { params });
  const gateways = useCall(operations.gateways.list, { params });
  const functions = useCall(operations.functions.list, { params });
  return {
    clients: (clients.data?.items ?? []).map(({ name }) => name),
    routes: (usage.data?.routes ?? []).map(({ method, route }) => ({ method, route })),
    gateways: (gateways.data?.items ?? []).map(({ name }) => name),
    functions: (functions.data?.items ?? []).map(({ name }) => name),
  };
}

function Versions({ place, name }: { place: Place; name: string }) {
  const versions = useCall(operations.objectives.versions, { params: place });
  return (
    <section className="panel">
      <Title order={3}>Versions</Title>
      <Loaded of={versions}>
        {({ items }) => (
          <table className="plain">
            <tbody>
              {items.map(({ version, at, by, why, items: all }) => (
                <tr key={version}>
                  <td className="right mono">{version}</td>
                  <td>
                    <Moment at={at} />
                  </td>
                  <td>{actorWords(by)}</td>
                  <td className="mono">{limitsOf(all.find((one) => one.name === name))}</td>
                  <td>{why}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Loaded>
      <Anchor
        component={Link}
        to={`/${place.app}/${place.environment}/audit?filter=${encodeURIComponent("kind = 'objectives'")}`}
        size="sm"
      >
        What was changed, in the audit
      </Anchor>
    </section>
  );
}

const limitsOf = (objective: Objective | undefined): string => (objective ? `${objective.stressed} / ${objective.failing}` : 'not there');
