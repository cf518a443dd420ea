/** Saves what a page shows, with its period, as a report of the environment. */
import { Button, Modal, NativeSelect, TextInput } from '@mantine/core';
import { type NewReport, operations, REPORT_PERIODS, type ReportPeriod } from '@orchard/contract';
import { IconReportAnalytics } from '@tabler/icons-react';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { useEnvironment } from '../environment.js';
import { FormOf, useOperationForm } from './operationForm.js';

/** The lists that a report can be made of, by the id of their operation. */
const LISTS: Record<string, NewReport['source']> = {
  [operations.telemetry.requests.id]: 'requests',
  [operations.log.list.id]: 'log',
  [operations.log.errors.id]: 'errors',
  [operations.incidents.list.id]: 'incidents',
  [operations.managedRecords.list.id]: 'records',
  [operations.users.list.id]: 'users',
  [operations.devices.list.id]: 'devices',
  [operations.notifications.list.id]: 'notifications',
};
export const sourceOfList = (operation: { id: string }): NewReport['source'] | undefined => LISTS[operation.id];

type Saved = Omit<Partial<NewReport>, 'name'> & { source: NewReport['source'] };

export function SaveReport({ of, period = 'week' }: { of: Saved; period?: ReportPeriod }) {
  const { params, base, details } = useEnvironment();
  const navigate = useNavigate();
  const [open, setOpen] = useState(false);
  const form = useOperationForm(operations.reports.save, {
    initial: { name: '', period },
    input: ({ name, period: chosen }) => ({ params, body: { ...of, name, period: chosen as ReportPeriod } }),
    onDone: ({ id }) => navigate(`${base}/reports/${id}`),
  });
  if (details?.role === 'viewer') return null;
  return (
    <>
      <Button variant="default" leftSection={<IconReportAnalytics size={16} />} onClick={() => setOpen(true)}>
        Make report
      </Button>
      <Modal opened={open} onClose={() => setOpen(false)} title="Save this as a report for the team">
        <FormOf of={form} verb="Save">
          <TextInput data-autofocus label="Name" required {...form.form.getInputProps('name')} />
          <NativeSelect
            label="Period"
            description="Counted back from when it is read"
            data={Object.entries(REPORT_PERIODS).map(([value, label]) => ({ value, label }))}
            {...form.form.getInputProps('period')}
          />
        </FormOf>
      </Modal>
    </>
  );
}
