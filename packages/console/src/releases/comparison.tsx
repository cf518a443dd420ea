/** Compares with a source, lets parts be chosen, and applies them. */
import { Button, Checkbox, Group, Stack, Text, Textarea } from '@mantine/core';
import { operations, type ReleaseDocument, type SetupDifferenceDocument } from '@orchard/contract';
import { countsOf, partName } from '@orchard/core';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Loaded, Trouble } from '../parts/basics.js';
import { Changes, Steps } from './changes.js';
import { OneRelease } from './release.js';
import { type Source, SourceChoice, useSource } from './source.js';

export function Comparison() {
  const { source, ...choice } = useSource();
  const [applied, setApplied] = useAddressState('applied');
  if (applied) return <OneRelease id={applied} onBack={() => setApplied(null)} />;
  return (
    <Stack>
      <SourceChoice {...choice} />
      {source ? (
        <Compared key={JSON.stringify(source)} source={source} onApplied={({ id }) => setApplied(id)} />
      ) : (
        <Empty title="Look at a difference before it is applied">
          <Text>
            Choose what this environment should become: another environment to promote from, a template, or a setup file. Nothing is changed
            by looking.
          </Text>
        </Empty>
      )}
    </Stack>
  );
}

function Compared({ source, onApplied }: { source: Source; onApplied: (release: ReleaseDocument) => void }) {
  const { params } = useEnvironment();
  const difference = useCall(operations.setups.compare, { params, body: source });
  return (
    <Loaded of={difference}>
      {(found) =>
        found.changes.length === 0 ? (
          <Text>Nothing differs.</Text>
        ) : (
          <Choosing key={found.base} source={source} difference={found} onApplied={onApplied} />
        )
      }
    </Loaded>
  );
}

function Choosing({
  source,
  difference,
  onApplied,
}: {
  source: Source;
  difference: SetupDifferenceDocument;
  onApplied: (release: ReleaseDocument) => void;
}) {
  const { params, details } = useEnvironment();
  const all = difference.changes.map(partName);
  // What cannot be applied is left out to begin with.
  const [left, setLeft] = useState<ReadonlySet<string>>(
    () => new Set(difference.changes.filter(({ blocked }) => blocked !== null).map(partName)),
  );
  const [why, setWhy] = useState('');
  const [loseData, setLoseData] = useState(false);
  const settings = useCall(operations.setups.settings, { params });
  const apply = useChange(operations.setups.apply, [operations.setups, operations.collections]);
  const chosen = new Set(all.filter((name) => !left.has(name)));
  const picked = difference.changes.filter((change) => chosen.has(partName(change)));
  const isLosing = picked.some(({ effects }) => effects.some(({ loses }) => loses));
  const isBlocked = picked.some(({ blocked }) => blocked !== null);
  const mayApply = details?.role === 'maintainer' || details?.role === 'owner';
  const choose = (names: readonly string[], isChosen: boolean) => {
    const next = new Set(left);
    for (const name of names)
      if (isChosen) next.delete(name);
      else next.add(name);
    setLeft(next);
  };
  const submit = () =>
    apply.mutate(
      { params, body: { ...source, base: difference.base, why, loseData, only: left.size > 0 ? [...chosen] : [] } },
      { onSuccess: onApplied },
    );
  return (
    <Stack>
      <Text>
        {countsOf(difference.changes)} {left.size > 0 && `${chosen.size} of them chosen.`}
      </Text>
      <Changes difference={difference} chosen={chosen} onChoose={choose} />
      <Steps steps={difference.steps} />
      <div className="panel">
        <Group align="end">
          <Textarea
            label="What it is for"
            autosize
            minRows={1}
            w="28rem"
            value={why}
            onChange={({ currentTarget }) => setWhy(currentTarget.value)}
          />
          <Button
            onClick={submit}
            loading={apply.isPending}
            disabled={!mayApply || chosen.size === 0 || isBlocked || (isLosing && !loseData)}
          >
            {settings.data?.approval ? 'Propose to a second member' : `Apply to ${params.app}/${params.environment}`}
          </Button>
        </Group>
        {isLosing && (
          <Checkbox
            mt="sm"
            label="Apply it although data is lost"
            checked={loseData}
            onChange={({ currentTarget }) => setLoseData(currentTarget.checked)}
          />
        )}
        {!mayApply && (
          <Text size="sm" c="dimmed">
            A maintainer or an owner applies it.
          </Text>
        )}
        {isBlocked && (
          <Text size="sm" className="care">
            Leave out the parts that cannot be applied, or mend them first.
          </Text>
        )}
        <Trouble error={apply.error} />
      </div>
    </Stack>
  );
}
