/** The people behind a point of a chart, in a drawer that has its own address. */
import { Drawer, Stack, Text } from '@mantine/core';
import { type BodyInputOf, operations } from '@orchard/contract';
import { useCall } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { Loaded, Moment } from '../parts/basics.js';
import { count, counted } from '../parts/format.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { TableHead } from '../parts/tableHead.js';
import { PersonCells } from './personLinks.js';

type Body = BodyInputOf<typeof operations.insight.behind>;
const MOST = 200;

/** @returns the handler of a chart, and the drawer that it opens */
export function useBehind(steps: readonly { at: string }[], until: string, of: Pick<Body, 'event' | 'filter'>) {
  const [at, setAt] = useAddressState('behind');
  const place = steps.findIndex((step) => step.at === at);
  const end = steps[place + 1]?.at ?? until;
  return {
    onStep: (step: string) => setAt(step),
    drawer: (
      <Drawer
        opened={place >= 0}
        onClose={() => setAt(null)}
        position="right"
        size="lg"
        title={
          place >= 0 && (
            <>
              Who was there from <Moment at={at} /> to <Moment at={end} />
            </>
          )
        }
      >
        {place >= 0 && <Behind body={{ from: at, until: end, ...of }} />}
      </Drawer>
    ),
  };
}

function Behind({ body }: { body: Body }) {
  const { params } = useEnvironment();
  const asked = { params, body: { ...body, limit: MOST } };
  const people = useCall(operations.insight.behind, asked);
  return (
    <Loaded of={people}>
      {({ total, items }) => (
        <Stack gap="sm">
          <Text size="sm">
            {counted(total, 'person', 'people')}
            {total > items.length && `, the ${items.length} with the most events`}
          </Text>
          <div>
            <FromCode calls={[coded(operations.insight.behind, asked)]} />
          </div>
          <div className="listing">
            <table>
              <TableHead columns={['Person', 'Device', { right: 'Times' }, 'First seen']} />
              <tbody>
                {items.map(({ firstAt, times, ...person }) => (
                  <tr key={person.person}>
                    <PersonCells of={person} />
                    <td className="right mono">{count(times)}</td>
                    <td>
                      <Moment at={firstAt} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </Stack>
      )}
    </Loaded>
  );
}
