/** Notices to the team, behind a bell. */
import { ActionIcon, Anchor, Indicator, Popover, Stack, Text } from '@mantine/core';
import { operations } from '@orchard/contract';
import { IconBell } from '@tabler/icons-react';
import { Link } from 'react-router';
import { useCall, useChange } from '../api.js';
import { Moment } from '../parts/basics.js';

export function NoticeBell() {
  const notices = useCall(operations.notices.list, {}, { refetchInterval: 60_000 });
  const read = useChange(operations.notices.read);
  const { items = [], unread = 0 } = notices.data ?? {};
  return (
    <Popover position="bottom-end" width={380} onOpen={() => unread > 0 && read.mutate({})}>
      <Indicator disabled={unread === 0} label={unread} size={15} color="persimmon.8">
        <Popover.Target>
          <ActionIcon variant="subtle" color="gray" aria-label={unread ? `Notices, ${unread} unread` : 'Notices'}>
            <IconBell size={18} />
          </ActionIcon>
        </Popover.Target>
      </Indicator>
      <Popover.Dropdown>
        {items.length === 0 ? (
          <Text size="sm">No notices. Certificates about to expire appear here.</Text>
        ) : (
          <Stack gap="sm" mah={420} style={{ overflowY: 'auto' }}>
            {items.map(({ id, title, body, link, at, app, environment }) => (
              <div key={id}>
                <Anchor size="sm" fw={600} component={Link} to={link ?? '/'}>
                  {title}
                </Anchor>
                <Text size="sm">{body}</Text>
                <Text size="sm" c="dimmed">
                  {app && `${app}/${environment}, `}
                  <Moment at={at} />
                </Text>
              </div>
            ))}
          </Stack>
        )}
      </Popover.Dropdown>
    </Popover>
  );
}
