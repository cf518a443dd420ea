/** The frame of every page: top bar, left rail, current app and environment. */
import {
  ActionIcon,
  Anchor,
  AppShell,
  Badge,
  Button,
  Group,
  Loader,
  Menu,
  Text,
  useMantineColorScheme,
  VisuallyHidden,
} from '@mantine/core';
import { type Member, operations } from '@orchard/contract';
import { IconApps, IconChevronDown, IconMoon } from '@tabler/icons-react';
import { Suspense } from 'react';
import { Link, NavLink, Outlet, useLocation, useNavigate } from 'react-router';
import { useCall } from '../api.js';
import { Condition } from '../condition/leaf.js';
import { useLiveChanges } from '../live.js';
import { Trouble } from '../parts/basics.js';
import { EnvironmentContext, useEnvironment } from '../environment.js';
import { MemberMenu } from './memberMenu.js';
import { NoticeBell } from './noticeBell.js';
import { RAIL, shownEntries } from './rail.js';
import { RunningCalls } from './running.js';
import { SearchBox } from './search.js';

export function Shell({ member }: { member: Member }) {
  const { params, base } = useEnvironment();
  const environment = useCall(operations.environments.read, { params });
  useLiveChanges(params.app, params.environment);
  return (
    <EnvironmentContext value={environment.data ?? null}>
      <AppShell header={{ height: 52 }} navbar={{ width: 190, breakpoint: 'sm' }} padding="lg">
        <AppShell.Header className="bar" data-live={params.environment === 'live' || undefined}>
          <TopBar member={member} />
        </AppShell.Header>
        <AppShell.Navbar className="rail" component="nav" aria-label="Pages">
          {RAIL.map(({ group, entries }) => (
            <div key={group}>
              {group && <h2>{group}</h2>}
              {shownEntries(entries, member).map(({ to, label, icon: Icon }) => (
                <NavLink key={to} to={`${base}/${to}`}>
                  <Icon size={17} stroke={1.6} aria-hidden />
                  {label}
                </NavLink>
              ))}
            </div>
          ))}
        </AppShell.Navbar>
        <AppShell.Main>
          <RunningCalls />
          <div className="page">
            {environment.error ? (
              <Trouble error={environment.error} />
            ) : (
              <Suspense fallback={<Loader role="status" aria-label="Loading the page" />}>
                <Outlet />
              </Suspense>
            )}
          </div>
        </AppShell.Main>
      </AppShell>
    </EnvironmentContext>
  );
}

function TopBar({ member }: { member: Member }) {
  const { toggleColorScheme } = useMantineColorScheme();
  return (
    <Group h="100%" px="md" justify="space-between" wrap="nowrap">
      <Group gap={4} wrap="nowrap">
        <Switcher />
        <Here />
      </Group>
      <SearchBox />
      <Group gap="xs" wrap="nowrap">
        <NoticeBell />
        <ActionIcon variant="subtle" color="gray" aria-label="Switch between light and dark" onClick={toggleColorScheme}>
          <IconMoon size={18} />
        </ActionIcon>
        <MemberMenu member={member} />
      </Group>
    </Group>
  );
}

const OFTEN_MS = 10_000;

/** How the environment is, beside its name. */
function Here() {
  const { params, base } = useEnvironment();
  const condition = useCall(operations.condition.read, { query: {} }, { refetchInterval: OFTEN_MS });
  const here = condition.data?.items.find(({ app, environment }) => app === params.app && environment === params.environment);
  if (!here) return null;
  return (
    <Anchor component={Link} to={`${base}/condition`} c="inherit" size="sm">
      <Condition of={here.condition} />
    </Anchor>
  );
}

/** App and environment; switching keeps the page. */
function Switcher() {
  const { params, base } = useEnvironment();
  const apps = useCall(operations.apps.list, {});
  const navigate = useNavigate();
  const page = useLocation().pathname.slice(base.length).split('/')[1] ?? 'overview';
  return (
    <Menu position="bottom-start" width={260}>
      <Menu.Target>
        <Button variant="subtle" color="gray" c="inherit" px={6} rightSection={<IconChevronDown size={15} />}>
          <img src="/leaf.svg" alt="" width={20} height={20} style={{ marginRight: 8 }} />
          <Text fw={600} mr={6}>
            {params.app}
          </Text>
          <Text c="dimmed" mr={6}>
            /
          </Text>
          <Text fw={600}>{params.environment}</Text>
          <VisuallyHidden>: switch app or environment</VisuallyHidden>
          {params.environment === 'live' && (
            <Badge ml={8} size="sm" variant="outline" color="persimmon" c="var(--care)">
              live
            </Badge>
          )}
        </Button>
      </Menu.Target>
      <Menu.Dropdown>
        {(apps.data?.items ?? []).map((app) => (
          <div key={app.name}>
            <Menu.Label>{app.title}</Menu.Label>
            {app.environments.map(({ name }) => (
              <Menu.Item key={name} onClick={() => navigate(`/${app.name}/${name}/${page}`)}>
                {app.name} / {name}
              </Menu.Item>
            ))}
          </div>
        ))}
        <Menu.Divider />
        <Menu.Item leftSection={<IconApps size={15} />} onClick={() => navigate('/')}>
          All apps
        </Menu.Item>
      </Menu.Dropdown>
    </Menu>
  );
}
