/** The left rail: every page of an environment, grouped by what a person came to do. */
import {
  IconBolt,
  IconBroadcast,
  IconChartLine,
  IconChecklist,
  IconDatabase,
  IconDeviceMobile,
  IconHash,
  IconKey,
  IconLeaf,
  IconListDetails,
  IconMessage,
  IconPencilPlus,
  IconRoute,
  IconSend2,
  IconStack2,
  IconUsers,
} from '@tabler/icons-react';

type Entry = { to: string; label: string; icon: typeof IconLeaf };
export const RAIL: { group: string; entries: Entry[] }[] = [
  { group: '', entries: [{ to: 'overview', label: 'Overview', icon: IconLeaf }] },
  { group: 'Data', entries: [{ to: 'data', label: 'Collections', icon: IconDatabase }] },
  { group: 'People', entries: [{ to: 'users', label: 'Users', icon: IconUsers }] },
  {
    group: 'Messages',
    entries: [
      { to: 'compose', label: 'Compose', icon: IconPencilPlus },
      { to: 'sent', label: 'Sent', icon: IconSend2 },
      { to: 'topics', label: 'Topics', icon: IconHash },
      { to: 'channels', label: 'Channels', icon: IconBroadcast },
      { to: 'devices', label: 'Devices', icon: IconDeviceMobile },
      { to: 'sms-inbox', label: 'SMS inbox', icon: IconMessage },
      { to: 'gateways', label: 'Gateways', icon: IconRoute },
    ],
  },
  {
    group: 'Operations',
    entries: [
      { to: 'requests', label: 'Requests', icon: IconListDetails },
      { to: 'jobs', label: 'Jobs', icon: IconChecklist },
    ],
  },
  { group: 'Insight', entries: [{ to: 'api-use', label: 'API use', icon: IconChartLine }] },
  {
    group: 'Setup',
    entries: [
      { to: 'setup', label: 'Clients and keys', icon: IconKey },
      { to: 'quick-start', label: 'Quick start', icon: IconBolt },
      { to: 'environments', label: 'Environments', icon: IconStack2 },
    ],
  },
];
