/** A setup difference: its parts on the left, and of the one that is open what it says, side by side, and what it does. */
import { Checkbox, Code, Group, Stack, Text, UnstyledButton } from '@mantine/core';
import { SETUP_KINDS, type SetupDifferenceDocument, type SetupKind } from '@orchard/contract';
import { partName } from '@orchard/core';
import { stringify } from 'yaml';
import { useState } from 'react';
import { Difference } from '../functions/codeEditor.js';
import { Moment } from '../parts/basics.js';
import { count, counted } from '../parts/format.js';

export type Change = SetupDifferenceDocument['changes'][number];
type Choose = (names: readonly string[], isChosen: boolean) => void;
const SIGNS = { make: '+', change: '~', drop: '−' } as const;
const WORDS = { make: 'is made', change: 'is changed', drop: 'is dropped' } as const;

const loses = ({ effects }: Change) => effects.some((effect) => effect.loses);
const titleOf = (kind: string) => SETUP_KINDS[kind as SetupKind]?.title ?? kind;
const asText = (document: Change['before']): string => (document ? stringify(document, { lineWidth: 0 }) : '');

/** @param chosen parts that are to be applied; without it, nothing can be chosen */
export function Changes({
  difference,
  chosen,
  onChoose,
}: {
  difference: SetupDifferenceDocument;
  chosen?: ReadonlySet<string>;
  onChoose?: Choose;
}) {
  const { changes } = difference;
  const [open, setOpen] = useState<string | null>(null);
  const shown = changes.find((change) => partName(change) === open) ?? changes[0];
  const kinds = [...new Set(changes.map(({ kind }) => kind))];
  return (
    <div className="setup-difference">
      <nav aria-label="Parts that differ">
        {kinds.map((kind) => (
          <section key={kind}>
            <KindHead kind={kind} changes={changes.filter((change) => change.kind === kind)} chosen={chosen} onChoose={onChoose} />
            {changes
              .filter((change) => change.kind === kind)
              .map((change) => (
                <OnePart
                  key={partName(change)}
                  change={change}
                  isOpen={change === shown}
                  isChosen={chosen?.has(partName(change))}
                  onOpen={() => setOpen(partName(change))}
                  onChoose={onChoose}
                />
              ))}
          </section>
        ))}
      </nav>
      {shown && <OneChange key={partName(shown)} change={shown} />}
    </div>
  );
}

/** A kind, with all of its parts to choose at once. */
function KindHead({
  kind,
  changes,
  chosen,
  onChoose,
}: {
  kind: string;
  changes: readonly Change[];
  chosen: ReadonlySet<string> | undefined;
  onChoose: Choose | undefined;
}) {
  const names = changes.map(partName);
  const picked = names.filter((name) => chosen?.has(name)).length;
  if (!onChoose)
    return (
      <Text fw={600} size="sm">
        {titleOf(kind)}
      </Text>
    );
  return (
    <Checkbox
      size="xs"
      pl=".4rem"
      label={<b>{titleOf(kind)}</b>}
      aria-label={`Apply all ${titleOf(kind)}`}
      checked={picked === names.length}
      indeterminate={picked > 0 && picked < names.length}
      onChange={({ currentTarget }) => onChoose(names, currentTarget.checked)}
    />
  );
}

function OnePart({
  change,
  isOpen,
  isChosen,
  onOpen,
  onChoose,
}: {
  change: Change;
  isOpen: boolean;
  isChosen: boolean | undefined;
  onOpen: () => void;
  onChoose: Choose | undefined;
}) {
  const name = partName(change);
  return (
    <Group gap="xs" wrap="nowrap" data-open={isOpen || undefined} className="setup-part">
      {onChoose && (
        <Checkbox
          size="xs"
          aria-label={`Apply ${name}`}
          checked={isChosen ?? false}
          onChange={({ currentTarget }) => onChoose([name], currentTarget.checked)}
        />
      )}
      <UnstyledButton onClick={onOpen} aria-current={isOpen ? 'true' : undefined}>
        <span className="mono" title={WORDS[change.action]}>
          {SIGNS[change.action]}
        </span>{' '}
        {change.name || titleOf(change.kind)}
        {change.blocked !== null ? (
          <span className="care"> · cannot be applied</span>
        ) : loses(change) ? (
          <span className="care"> · loses data</span>
        ) : null}
      </UnstyledButton>
    </Group>
  );
}

function OneChange({ change }: { change: Change }) {
  const { blocked, effects, uses, hints, renames, before, after, action } = change;
  return (
    <Stack gap="sm" className="setup-change">
      <Text>
        <span className="mono">{partName(change)}</span> {WORDS[action]}
      </Text>
      {blocked !== null && (
        <Text className="care" fw={600}>
          It cannot be applied: {blocked}
        </Text>
      )}
      {Object.entries(renames).map(([field, was]) => (
        <Text key={field}>
          The field <span className="mono">{was}</span> is called <span className="mono">{field}</span> from now on; its values stay.
        </Text>
      ))}
      {effects.map(({ text, loses: isLoss, examples }) => (
        <div key={text}>
          <Text className={isLoss ? 'care' : undefined} fw={isLoss ? 600 : undefined}>
            {text}.
          </Text>
          {examples?.map(({ id, problem }) => (
            <Text key={id} size="sm" c="dimmed">
              <span className="mono">{id}</span>: {problem}
            </Text>
          ))}
        </div>
      ))}
      {uses.length > 0 && (
        <div>
          <Text fw={600}>In use</Text>
          {uses.map(({ by, calls, lastAt }) => (
            <Text key={by} size="sm">
              {by}: {count(calls)} {calls === 1 ? 'call' : 'calls'}, last <Moment at={lastAt} />
            </Text>
          ))}
        </div>
      )}
      {hints.map((hint) => (
        <Text key={hint} size="sm">
          {hint}
        </Text>
      ))}
      <Difference plain before={asText(before)} after={asText(after)} />
    </Stack>
  );
}

/** What happens, in order. */
export function Steps({ steps }: { steps: readonly string[] }) {
  return (
    <details>
      <summary>{counted(steps.length, 'step')}, in this order</summary>
      <ol>
        {steps.map((step) => (
          <li key={step}>
            <Code>{step}</Code>
          </li>
        ))}
      </ol>
    </details>
  );
}
