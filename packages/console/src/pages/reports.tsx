/** Reports that the team saved, and the digests that are mailed. */
import { Anchor, Badge, Tabs, Text } from '@mantine/core';
import { operations, REPORT_PERIODS, REPORT_SOURCES, type Report } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Empty, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { SaveReport } from '../parts/saveReport.js';
import { TableHead } from '../parts/tableHead.js';
import { DigestList } from '../reports/digestList.js';

const own = operations.reports;

export function ReportsPage() {
  const { params } = useEnvironment();
  const [tab, setTab] = useAddressState('tab', 'reports');
  return (
    <>
      <PageHead title="Reports" hint="What the team looks at again, and what it reads on Monday">
        <SaveReport of={{ source: 'summary' }} />
        <FromCode calls={[coded(own.list, { params }), coded(operations.digests.list, {})]} />
      </PageHead>
      <Tabs value={tab} onChange={setTab} keepMounted={false}>
        <Tabs.List mb="md">
          <Tabs.Tab value="reports">Saved reports</Tabs.Tab>
          <Tabs.Tab value="digests">Digests by mail</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="reports">
          <ReportList />
        </Tabs.Panel>
        <Tabs.Panel value="digests">
          <DigestList />
        </Tabs.Panel>
      </Tabs>
    </>
  );
}

/** What a report is of, in words. */
export const reportWords = ({ source, collection, client, route, filter }: Report): string =>
  [REPORT_SOURCES[source], collection && `of ${collection}`, client && `by ${client}`, route, filter && `where ${filter}`]
    .filter(Boolean)
    .join(' ');

function ReportList() {
  const { params, base, details } = useEnvironment();
  const reports = useCall(own.list, { params });
  const remove = useChange(own.remove);
  return (
    <Loaded of={reports}>
      {({ items }) =>
        items.length === 0 ? (
          <Empty title="No report yet">
            <Text>
              “Make report” above keeps a summary; the same button stands on API use, Condition, and every list: requests, log, errors,
              records, users, devices. A report opens as a page made for printing, and can go into a digest.
            </Text>
          </Empty>
        ) : (
          <div className="listing">
            <Trouble error={remove.error} />
            <table aria-label="Reports">
              <TableHead columns={['Name', 'Of', 'Period', 'Saved', '']} />
              <tbody>
                {items.map((report) => (
                  <tr key={report.id}>
                    <td>
                      <Anchor component={Link} to={`${base}/reports/${report.id}`}>
                        {report.name}
                      </Anchor>
                    </td>
                    <td title={reportWords(report)}>{reportWords(report)}</td>
                    <td>
                      <Badge variant="light" color="gray" tt="none">
                        {REPORT_PERIODS[report.period]}
                      </Badge>
                    </td>
                    <td>
                      <Moment at={report.at} /> {report.by.name}
                    </td>
                    <td className="right">
                      {details?.role !== 'viewer' && (
                        <Anchor component="button" size="sm" onClick={() => remove.mutate({ params: { ...params, report: report.id } })}>
                          Delete
                        </Anchor>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )
      }
    </Loaded>
  );
}
