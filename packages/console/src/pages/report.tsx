/** One report, as a page made for printing. */
import { Anchor, Button, Stack, Text, Title } from '@mantine/core';
import { addressOf, operations } from '@orchard/contract';
import { momentWords } from '@orchard/core';
import { IconPrinter } from '@tabler/icons-react';
import { Link, useParams } from 'react-router';
import { useCall } from '../api.js';
import { useEnvironment } from '../environment.js';
import { Loaded, PageHead } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { ReportBlock } from '../reports/blocks.js';
import { reportWords } from './reports.js';

export function ReportPage() {
  const { params, base } = useEnvironment();
  const { id = '' } = useParams();
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const asked = { params: { ...params, report: id }, query: { zone } };
  const answer = useCall(operations.reports.read, asked);
  return (
    <Loaded of={answer}>
      {({ report, document }) => (
        <Stack gap="lg" className="paper">
          <div className="screen-only">
            <PageHead title={report.name} hint={reportWords(report)}>
              <Button leftSection={<IconPrinter size={16} />} onClick={() => window.print()}>
                Print
              </Button>
              <Anchor href={addressOf(operations.reports.file, asked)} download size="sm">
                CSV
              </Anchor>
              <Anchor component={Link} to={`${base}/reports?tab=digests`} size="sm">
                By mail
              </Anchor>
              <FromCode calls={[coded(operations.reports.read, asked), coded(operations.reports.file, asked)]} />
            </PageHead>
          </div>
          <div className="print-only">
            <Title order={1}>{report.name}</Title>
          </div>
          <Text size="sm" c="dimmed">
            {document.app}/{document.environment}, {momentWords(Date.parse(document.from), zone)} to{' '}
            {momentWords(Date.parse(document.until), zone)} ({zone})
          </Text>
          {document.blocks.map((block, i) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: blocks stay in their order
            <ReportBlock key={i} of={block} zone={zone} />
          ))}
        </Stack>
      )}
    </Loaded>
  );
}
