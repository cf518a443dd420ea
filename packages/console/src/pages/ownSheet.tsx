/** A sheet of the team's own: saved reports side by side, arranged by drag or keyboard. */
import { Anchor, Button, Group, NativeSelect, SegmentedControl, Stack, Text, TextInput, Title } from '@mantine/core';
import { operations, type Sheet } from '@orchard/contract';
import { IconPrinter } from '@tabler/icons-react';
import { lazy, Suspense, useState } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { SheetTabs } from '../insight/sheetTabs.js';
import { Empty, Loaded, PageHead, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { ReportBlock } from '../reports/blocks.js';

const own = operations.sheets;
/** Dragging is loaded when somebody arranges. */
const Arranging = lazy(async () => ({ default: (await import('../insight/arranging.js')).Arranging }));

export function OwnSheetPage() {
  const { params, details } = useEnvironment();
  const { id = '' } = useParams();
  const [arrange, setArrange] = useAddressState('arrange');
  const asked = { params: { ...params, sheet: id } };
  const sheet = useCall(own.read, asked);
  const mayChange = details?.role !== 'viewer';
  return (
    <Stack gap="lg">
      <SheetTabs />
      <Loaded of={sheet}>
        {(shown) => (
          <>
            <PageHead title={shown.name} hint={`${params.app} / ${params.environment}`}>
              {mayChange && (
                <Button variant="default" onClick={() => setArrange(arrange ? null : '1')}>
                  {arrange ? 'Done' : 'Arrange'}
                </Button>
              )}
              <Button variant="default" leftSection={<IconPrinter size={16} />} onClick={() => window.print()}>
                Print
              </Button>
              <FromCode calls={[coded(own.read, asked)]} />
            </PageHead>
            {arrange && mayChange && <Settings key={shown.id} of={shown} />}
            {shown.items.length === 0 && !arrange && (
              <Empty title="Nothing on this sheet yet">
                <Text>“Arrange” puts saved reports on it. Every page of insight and operations can be saved as a report.</Text>
              </Empty>
            )}
            <div className="sheet-grid">
              {shown.items.map(({ report, name, width }) => (
                <div key={report} style={width === 2 ? { gridColumn: '1 / -1' } : undefined}>
                  <ReportOnSheet id={report} name={name} />
                </div>
              ))}
            </div>
          </>
        )}
      </Loaded>
    </Stack>
  );
}

function ReportOnSheet({ id, name }: { id: string; name: string | null }) {
  const { params, base } = useEnvironment();
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const answer = useCall(operations.reports.read, { params: { ...params, report: id }, query: { zone } }, { enabled: name !== null });
  if (name === null) return <Text c="dimmed">The report that stood here was deleted. “Arrange” takes it off.</Text>;
  return (
    <section aria-label={name}>
      <Title order={2} mb="xs">
        <Anchor component={Link} to={`${base}/reports/${id}`} inherit>
          {name}
        </Anchor>
      </Title>
      <Loaded of={answer}>
        {({ document }) => (
          <Stack gap="md">
            {document.blocks.map((block, i) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: blocks stay in their order
              <ReportBlock key={i} of={block} zone={zone} />
            ))}
          </Stack>
        )}
      </Loaded>
    </section>
  );
}

type Item = { report: string; name: string | null; width: 1 | 2 };

/** What stands on the sheet, saved with each change. */
function Settings({ of }: { of: Sheet }) {
  const { params, base } = useEnvironment();
  const navigate = useNavigate();
  const [name, setName] = useState(of.name);
  const reports = useCall(operations.reports.list, { params });
  const change = useChange(own.change);
  const remove = useChange(own.remove);
  const items = of.items as Item[];
  const at = { ...params, sheet: of.id };
  const save = (next: readonly Item[], as = of.name) =>
    change.mutate({ params: at, body: { name: as, items: next.map(({ report, width }) => ({ report, width })) } });
  const free = (reports.data?.items ?? []).filter(({ id }) => !items.some(({ report }) => report === id));
  return (
    <section className="panel" aria-label="Arrange">
      <Trouble error={change.error} />
      <Group align="flex-end" mb="sm">
        <TextInput
          label="Name"
          value={name}
          maxLength={80}
          onChange={({ currentTarget }) => setName(currentTarget.value)}
          onBlur={() => name.trim() && name !== of.name && save(items, name.trim())}
        />
        <NativeSelect
          label="Put a report on it"
          value=""
          onChange={({ currentTarget }) => {
            const added = free.find(({ id }) => id === currentTarget.value);
            if (added) save([...items, { report: added.id, name: added.name, width: 1 }]);
          }}
          data={[
            { value: '', label: free.length === 0 ? 'No other report is saved' : 'Choose …' },
            ...free.map(({ id, name: label }) => ({ value: id, label })),
          ]}
        />
        <ConfirmedButton
          label="Delete sheet"
          verb="Delete"
          question={`Delete the sheet ${of.name}?`}
          consequence="Its reports stay."
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: () => navigate(`${base}/sheet`) })}
        />
      </Group>
      <Suspense>
        <Arranging
          items={items.map(({ report, name: label, width }) => ({ id: report, label: label ?? '(deleted)', width }))}
          onOrder={(ids) => save(ids.flatMap((id) => items.find(({ report }) => report === id) ?? []))}
          onRemove={(id) => save(items.filter(({ report }) => report !== id))}
          control={(id) => (
            <SegmentedControl
              size="xs"
              aria-label="Width"
              value={String(items.find(({ report }) => report === id)?.width ?? 1)}
              onChange={(width) => save(items.map((one) => (one.report === id ? { ...one, width: Number(width) as 1 | 2 } : one)))}
              data={[
                { value: '1', label: 'Half' },
                { value: '2', label: 'Full' },
              ]}
            />
          )}
        />
      </Suspense>
    </section>
  );
}
