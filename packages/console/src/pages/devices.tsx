/** Devices: did the phone register, can it be reached, and why not. */
import { Anchor, Button, Group, Stack, Text } from '@mantine/core';
import { type Device, operations } from '@orchard/contract';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Code, Empty, Facts, Loaded, Moment, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { ListPage } from '../parts/listPage.js';
import { Verdict } from '../parts/verdict.js';
import { useEnvironment } from '../environment.js';

const REGISTER = `PUT /app/v1/devices/{id}   with a client key: platform, appVersion, os, locale, timeZone, permission, subscription`;
const shortId = (id: string) => (id.length > 16 ? `${id.slice(0, 14)}…` : id);

export function DevicesPage() {
  return (
    <ListPage
      title="Devices"
      hint="Installations that registered, latest seen first"
      operation={operations.devices.list}
      label="Devices"
      initialSort="-lastSeenAt"
      idOf={({ id }) => id}
      example="platform = 'android' AND appVersion < '2.4.0'"
      presets={[
        { label: 'Allowed', filter: "permission = 'granted' AND retiredAt IS NULL" },
        { label: 'Not allowed', filter: "permission <> 'granted'" },
        { label: 'Retired', filter: 'retiredAt IS NOT NULL' },
      ]}
      empty={
        <Empty title="No device has registered yet">
          <Text>An app registers its installation after each start:</Text>
          <Code>{REGISTER}</Code>
        </Empty>
      }
      columns={[
        {
          name: 'id',
          label: 'Device',
          render: ({ id }) => (
            <span className="mono" title={id}>
              {shortId(id)}
            </span>
          ),
        },
        { name: 'platform', label: 'Platform', sortable: true, render: ({ platform, os }) => `${platform}, ${os}` },
        { name: 'model', label: 'Model', sortable: true, render: ({ model }) => model },
        { name: 'appVersion', label: 'App', sortable: true, render: ({ appVersion }) => <span className="mono">{appVersion}</span> },
        { name: 'locale', label: 'Locale', sortable: true, render: ({ locale }) => locale },
        { name: 'reach', label: 'Reachable', render: ({ reachable, reach }) => <Verdict well={reachable} because={reach} /> },
        { name: 'gateway', label: 'Gateway', render: ({ gateway }) => gateway },
        { name: 'lastSeenAt', label: 'Last seen', sortable: true, render: ({ lastSeenAt }) => <Moment at={lastSeenAt} /> },
      ]}
      drawer={{ title: 'Device', render: (id, close) => <OneDevice id={id} onGone={close} /> }}
    />
  );
}

function OneDevice({ id, onGone }: { id: string; onGone: () => void }) {
  const { params } = useEnvironment();
  const device = useCall(operations.devices.readManaged, { params: { ...params, device: id } });
  return <Loaded of={device}>{(current) => <DeviceInFull device={current} onGone={onGone} />}</Loaded>;
}

function DeviceInFull({ device, onGone }: { device: Device; onGone: () => void }) {
  const { params, base } = useEnvironment();
  const at = { ...params, device: device.id };
  const patch = useChange(operations.devices.patch);
  const remove = useChange(operations.devices.removeManaged);
  const test = useChange(operations.notifications.sendManaged);
  const sendTest = () =>
    test.mutate({ params, body: { title: 'Test', body: `Sent to this device from the console.`, audience: { device: device.id } } });
  return (
    <Stack>
      <Text className={device.reachable ? undefined : 'care'} fw={600}>
        {device.reachable ? 'Reachable: a notification sent now goes out to it.' : `Not reachable. ${device.reach}`}
      </Text>
      <Facts
        of={[
          [
            'Id',
            <span key="i" className="mono">
              {device.id}
            </span>,
          ],
          ['Platform', `${device.platform}, ${device.os}`],
          ['Model', device.model],
          ['App version', device.appVersion],
          ['Client', device.client],
          [
            'User',
            device.userId && (
              <Anchor key="u" component={Link} to={`${base}/users?open=${device.userId}`} className="mono">
                {device.userId}
              </Anchor>
            ),
          ],
          ['Gateway', device.gateway && `${device.gateway}${device.tokenStage ? `, address for the ${device.tokenStage} stage` : ''}`],
          ['Country', device.country],
          ['Locale', device.locale],
          ['Time zone', device.timeZone],
          ['Permission', device.permission],
          ['Allows', allowsWords(device)],
          ['Push network', device.pushOrigin],
          ['Last seen', <Moment key="l" at={device.lastSeenAt} />],
          ['First registered', <Moment key="f" at={device.createdAt} />],
          ['Retired', device.retiredAt && <Moment key="r" at={device.retiredAt} />],
          [
            'See also',
            <Anchor key="q" component={Link} to={`${base}/requests?filter=${encodeURIComponent(`deviceId = '${device.id}'`)}`}>
              requests
            </Anchor>,
          ],
        ]}
      />
      <FollowedAndSent device={device} />
      {test.data && (
        <Text role="status">
          Sent:{' '}
          <Anchor component={Link} to={`${base}/sent/${test.data.id}`}>
            follow its delivery
          </Anchor>
        </Text>
      )}
      <Trouble error={test.error ?? patch.error} />
      <Group>
        <Button onClick={sendTest} loading={test.isPending}>
          Send a test
        </Button>
        {device.userId && (
          <Button variant="default" onClick={() => patch.mutate({ params: at, body: { userId: null } })}>
            Detach from its user
          </Button>
        )}
        <Button variant="default" onClick={() => patch.mutate({ params: at, body: { retired: !device.retiredAt } })}>
          {device.retiredAt ? 'Restore' : 'Retire'}
        </Button>
        <ConfirmedButton
          label="Forget device"
          verb="Forget"
          question="Forget this device?"
          consequence="It leaves the list and receives no notifications until the app registers it again."
          change={remove}
          onConfirm={() => remove.mutate({ params: at }, { onSuccess: onGone })}
        />
      </Group>
    </Stack>
  );
}

/** The topics of a device, and every notification sent to it. */
function FollowedAndSent({ device }: { device: Device }) {
  const { params, base } = useEnvironment();
  const at = { params: { ...params, device: device.id } };
  const topics = useCall(operations.devices.topicsManaged, at);
  const sent = useCall(operations.devices.deliveries, { ...at, query: { limit: 10 } });
  return (
    <>
      <Text size="sm">
        <b>Follows</b>{' '}
        {topics.data?.items.length
          ? topics.data.items.map(({ topic, via }) => `${topic}${via === 'user' ? ' (its user)' : ''}`).join(', ')
          : 'no topics'}
      </Text>
      <section className="listing" aria-label="Sent to this device">
        <table>
          <thead>
            <tr>
              {['Sent to it', 'State', 'Received', 'Opened'].map((label) => (
                <th key={label} scope="col">
                  {label}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {(sent.data?.items ?? []).map((one) => (
              <tr key={one.notification}>
                <td>
                  <Anchor component={Link} to={`${base}/sent/${one.notification}`}>
                    {one.title ?? 'untitled'}
                  </Anchor>
                </td>
                <td title={one.reason ?? undefined}>{one.state}</td>
                <td>{one.receivedAt && <Moment at={one.receivedAt} />}</td>
                <td>{one.openedAt && <Moment at={one.openedAt} />}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {sent.data?.items.length === 0 && (
          <Text size="sm" c="dimmed">
            Nothing was sent to it yet.
          </Text>
        )}
      </section>
    </>
  );
}

/** `alert, badge; no sound`. */
function allowsWords({ allows }: Device): string {
  const names = Object.entries(allows);
  const list = (wanted: boolean) =>
    names
      .filter(([, allowed]) => allowed === wanted)
      .map(([name]) => name)
      .join(', ');
  return [list(true), list(false) && `no ${list(false)}`].filter(Boolean).join('; ');
}
