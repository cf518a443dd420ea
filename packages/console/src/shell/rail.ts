/** The left rail: every page of an environment, grouped by task. */
import {
  IconCalendarClock,
  IconBellRinging,
  IconBolt,
  IconBroadcast,
  IconBug,
  IconChartLine,
  IconChecklist,
  IconClick,
  IconClockPlay,
  IconDatabase,
  IconDeviceMobile,
  IconFilterDown,
  IconHash,
  IconHistory,
  IconKey,
  IconLayoutDashboard,
  IconLeaf,
  IconListCheck,
  IconListDetails,
  IconMessage,
  IconNotes,
  IconPencilPlus,
  IconPlant2,
  IconRepeat,
  IconReportAnalytics,
  IconRobot,
  IconRoute,
  IconRouteAltLeft,
  IconSend2,
  IconTableShare,
  IconServer,
  IconStack2,
  IconUrgent,
  IconUserPlus,
  IconDoorEnter,
  IconUsers,
  IconUsersGroup,
} from '@tabler/icons-react';

type Entry = { to: string; label: string; icon: typeof IconLeaf /** Shown to owners of the installation. */; ownerOnly?: true };
export const RAIL: { group: string; entries: Entry[] }[] = [
  { group: '', entries: [{ to: 'overview', label: 'Overview', icon: IconLeaf }] },
  {
    group: 'Data',
    entries: [
      { to: 'data', label: 'Collections', icon: IconDatabase },
      { to: 'outside', label: 'Outside tables', icon: IconTableShare },
    ],
  },
  {
    group: 'People',
    entries: [
      { to: 'users', label: 'Users', icon: IconUsers },
      { to: 'entry', label: 'Sign-in', icon: IconDoorEnter },
    ],
  },
  {
    group: 'Messages',
    entries: [
      { to: 'compose', label: 'Compose', icon: IconPencilPlus },
      { to: 'sent', label: 'Sent', icon: IconSend2 },
      { to: 'standing', label: 'Standing', icon: IconCalendarClock },
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
      { to: 'condition', label: 'Condition', icon: IconPlant2 },
      { to: 'requests', label: 'Requests', icon: IconListDetails },
      { to: 'log', label: 'Log', icon: IconNotes },
      { to: 'errors', label: 'Errors', icon: IconBug },
      { to: 'jobs', label: 'Jobs', icon: IconChecklist },
      { to: 'incidents', label: 'Incidents', icon: IconUrgent },
      { to: 'alerts', label: 'Alerts', icon: IconBellRinging },
      { to: 'reports', label: 'Reports', icon: IconReportAnalytics },
    ],
  },
  {
    group: 'Insight',
    entries: [
      { to: 'sheet', label: 'Sheet', icon: IconLayoutDashboard },
      { to: 'arrivals', label: 'Arrivals', icon: IconUserPlus },
      { to: 'visits', label: 'Visits', icon: IconClockPlay },
      { to: 'insight-events', label: 'Events', icon: IconClick },
      { to: 'funnels', label: 'Funnels', icon: IconFilterDown },
      { to: 'returns', label: 'Returns', icon: IconRepeat },
      { to: 'paths', label: 'Paths', icon: IconRouteAltLeft },
      { to: 'event-plan', label: 'Event plan', icon: IconListCheck },
      { to: 'api-use', label: 'API use', icon: IconChartLine },
    ],
  },
  {
    group: 'Setup',
    entries: [
      { to: 'setup', label: 'Clients and keys', icon: IconKey },
      { to: 'quick-start', label: 'Quick start', icon: IconBolt },
      { to: 'environments', label: 'Environments', icon: IconStack2 },
      { to: 'team', label: 'Team', icon: IconUsersGroup },
      { to: 'tokens', label: 'Automation', icon: IconRobot },
      { to: 'audit', label: 'Audit', icon: IconHistory },
      { to: 'installation', label: 'Installation', icon: IconServer, ownerOnly: true },
    ],
  },
];

export const shownEntries = (entries: readonly Entry[], { owner }: { owner: boolean }): Entry[] =>
  entries.filter(({ ownerOnly }) => owner || !ownerOnly);
