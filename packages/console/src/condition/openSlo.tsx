/** Objectives as a file: out as OpenSLO, and in with a look at what would change. */
import { Button, FileButton, Group, Modal, Stack, Text } from '@mantine/core';
import { addressOf, type Objective, operations } from '@orchard/contract';
import { durationWords, measureWords, subjectWords, valueWords } from '@orchard/core';
import { useState } from 'react';
import { useChange } from '../api.js';
import { Trouble } from '../parts/basics.js';
import { TableHead } from '../parts/tableHead.js';

type Place = { app: string; environment: string };

export function OpenSloButtons({ params }: { params: Place }) {
  const [yaml, setYaml] = useState<string | null>(null);
  const bring = useChange(operations.objectives.importSlo, [operations.objectives, operations.condition]);
  const look = async (file: File | null) => {
    if (!file) return;
    const text = await file.text();
    setYaml(text);
    bring.mutate({ params, body: { yaml: text, apply: false } });
  };
  const close = () => {
    setYaml(null);
    bring.reset();
  };
  const differences = bring.data?.differences ?? [];
  return (
    <>
      <Button
        size="xs"
        variant="default"
        component="a"
        href={addressOf(operations.objectives.exportSlo, { params })}
        download={`${params.app}-${params.environment}-objectives.yaml`}
      >
        Export OpenSLO
      </Button>
      <FileButton accept=".yaml,.yml" onChange={look}>
        {(props) => (
          <Button size="xs" variant="default" {...props}>
            Import
          </Button>
        )}
      </FileButton>
      <Modal opened={yaml !== null} onClose={close} size="xl" title={`Objectives of ${params.app} / ${params.environment} from a file`}>
        <Stack>
          <Trouble error={bring.error} />
          {bring.data && differences.length === 0 && <Text>The file says what is in force already.</Text>}
          {differences.length > 0 && <Differences of={differences} />}
          {bring.data?.notes.map((note) => (
            <Text key={note} size="sm" c="dimmed">
              {note}
            </Text>
          ))}
          {differences.length > 0 && !bring.data?.applied && (
            <Group justify="flex-end">
              <Button
                loading={bring.isPending}
                onClick={() => bring.mutate({ params, body: { yaml: yaml as string, apply: true } }, { onSuccess: close })}
              >
                Store as a new version
              </Button>
            </Group>
          )}
        </Stack>
      </Modal>
    </>
  );
}

type Difference = { name: string; change: 'added' | 'changed' | 'removed'; before: Objective | null; after: Objective | null };

function Differences({ of }: { of: readonly Difference[] }) {
  return (
    <div className="listing">
      <table aria-label="What would change">
        <TableHead columns={['Change', 'Objective', 'Before', 'After']} />
        <tbody>
          {of.map(({ name, change, before, after }) => (
            <tr key={name}>
              <td>{change}</td>
              <td className="mono">{name}</td>
              <td className="whole">{before && inWords(before)}</td>
              <td className="whole">{after && inWords(after)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const inWords = ({ measure, subject, windowMs, stressed, failing }: Objective): string =>
  `${measureWords(measure)}, ${subjectWords(subject)} in ${durationWords(windowMs)}: ${valueWords(measure, stressed)}, ${valueWords(measure, failing)}`;
