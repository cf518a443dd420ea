/** The pages and their addresses. */
import { Anchor, Center, Loader } from '@mantine/core';
import { type Member, operations, Problem } from '@orchard/contract';
import { type ComponentType, lazy, Suspense } from 'react';
import { Link, Navigate, Route, Routes } from 'react-router';
import { keepCsrf, useCall } from './api.js';
import { Empty, Trouble } from './parts/basics.js';
import { ConfirmIdentity } from './shell/confirmIdentity.js';

/** A page whose code is loaded when it is first opened. */
const page = <Name extends string>(load: () => Promise<Record<Name, ComponentType>>, name: Name) =>
  lazy(async () => ({ default: (await load())[name] }));

const signIn = () => import('./pages/signIn.js');
const ConfirmEmailPage = page(signIn, 'ConfirmEmailPage');
const ForgotPasswordPage = page(signIn, 'ForgotPasswordPage');
const JoinPage = page(signIn, 'JoinPage');
const NewPasswordPage = page(signIn, 'NewPasswordPage');
const SetupPage = page(signIn, 'SetupPage');
const SecondFactorPage = page(signIn, 'SecondFactorPage');
const SignInPage = page(signIn, 'SignInPage');
const AppsPage = lazy(async () => ({ default: (await import('./pages/apps.js')).AppsPage }));
const Shell = lazy(async () => ({ default: (await import('./shell/shell.js')).Shell }));
const AccountPage = page(() => import('./pages/account.js'), 'AccountPage');
const AcknowledgePage = page(() => import('./pages/acknowledge.js'), 'AcknowledgePage');
const AlertsPage = page(() => import('./pages/alerts.js'), 'AlertsPage');
const ApiUsePage = page(() => import('./pages/apiUse.js'), 'ApiUsePage');
const AuditPage = page(() => import('./pages/audit.js'), 'AuditPage');
const ChannelsPage = page(() => import('./pages/channels.js'), 'ChannelsPage');
const ClientsPage = page(() => import('./pages/clients.js'), 'ClientsPage');
const CollectionPage = page(() => import('./pages/collection.js'), 'CollectionPage');
const CollectionsPage = page(() => import('./pages/collections.js'), 'CollectionsPage');
const ComposePage = page(() => import('./pages/compose.js'), 'ComposePage');
const ConditionPage = page(() => import('./pages/condition.js'), 'ConditionPage');
const DevicesPage = page(() => import('./pages/devices.js'), 'DevicesPage');
const EnvironmentsPage = page(() => import('./pages/environments.js'), 'EnvironmentsPage');
const ErrorsPage = page(() => import('./pages/errors.js'), 'ErrorsPage');
const GatewaysPage = page(() => import('./pages/gateways.js'), 'GatewaysPage');
const IncidentsPage = page(() => import('./pages/incidents.js'), 'IncidentsPage');
const InstallationPage = page(() => import('./pages/installation.js'), 'InstallationPage');
const JobsPage = page(() => import('./pages/jobs.js'), 'JobsPage');
const LogPage = page(() => import('./pages/log.js'), 'LogPage');
const NotificationPage = page(() => import('./pages/notification.js'), 'NotificationPage');
const OverviewPage = page(() => import('./pages/overview.js'), 'OverviewPage');
const FirstCallsPage = page(() => import('./pages/firstCalls.js'), 'FirstCallsPage');
const SheetPage = page(() => import('./pages/sheet.js'), 'SheetPage');
const OwnSheetPage = page(() => import('./pages/ownSheet.js'), 'OwnSheetPage');
const WherePage = page(() => import('./pages/where.js'), 'WherePage');
const ArrivalsPage = page(() => import('./pages/arrivals.js'), 'ArrivalsPage');
const VisitsPage = page(() => import('./pages/visits.js'), 'VisitsPage');
const InsightEventsPage = page(() => import('./pages/insightEvents.js'), 'InsightEventsPage');
const FunnelsPage = page(() => import('./pages/funnels.js'), 'FunnelsPage');
const ReturnsPage = page(() => import('./pages/returns.js'), 'ReturnsPage');
const PathsPage = page(() => import('./pages/paths.js'), 'PathsPage');
const EventPlanPage = page(() => import('./pages/eventPlan.js'), 'EventPlanPage');
const DigestLinkPage = page(() => import('./pages/digestLink.js'), 'DigestLinkPage');
const ReportPage = page(() => import('./pages/report.js'), 'ReportPage');
const ReportsPage = page(() => import('./pages/reports.js'), 'ReportsPage');
const RequestsPage = page(() => import('./pages/requests.js'), 'RequestsPage');
const SentPage = page(() => import('./pages/sent.js'), 'SentPage');
const SmsInboxPage = page(() => import('./pages/smsInbox.js'), 'SmsInboxPage');
const TeamPage = page(() => import('./pages/team.js'), 'TeamPage');
const TokensPage = page(() => import('./pages/tokens.js'), 'TokensPage');
const FunctionsPage = page(() => import('./pages/functions.js'), 'FunctionsPage');
const SchedulesPage = page(() => import('./pages/schedules.js'), 'SchedulesPage');
const BroadcastsPage = page(() => import('./pages/broadcasts.js'), 'BroadcastsPage');
const SitesPage = page(() => import('./pages/sites.js'), 'SitesPage');
const FilesPage = page(() => import('./pages/files.js'), 'FilesPage');
const UpstreamsPage = page(() => import('./pages/upstreams.js'), 'UpstreamsPage');
const UsesPage = page(() => import('./pages/uses.js'), 'UsesPage');
const OutsidePage = page(() => import('./pages/outside.js'), 'OutsidePage');
const StandingPage = page(() => import('./pages/standing.js'), 'StandingPage');
const ReleasesPage = page(() => import('./pages/releases.js'), 'ReleasesPage');
const BackupsPage = page(() => import('./pages/backups.js'), 'BackupsPage');
const SyncPage = page(() => import('./pages/syncs.js'), 'SyncPage');
const TopicsPage = page(() => import('./pages/topics.js'), 'TopicsPage');
const EntryPage = page(() => import('./pages/entry.js'), 'EntryPage');
const UsersPage = page(() => import('./pages/users.js'), 'UsersPage');

export function Console() {
  return (
    <Suspense fallback={<Waiting />}>
      <Routes>
        <Route path="/setup" element={<SetupPage />} />
        <Route path="/sign-in" element={<SignInPage />} />
        <Route path="/second-factor" element={<SecondFactorPage />} />
        <Route path="/forgot-password" element={<ForgotPasswordPage />} />
        <Route path="/new-password" element={<NewPasswordPage />} />
        <Route path="/join" element={<JoinPage />} />
        <Route path="/confirm-email" element={<ConfirmEmailPage />} />
        <Route path="/acknowledge" element={<AcknowledgePage />} />
        <Route path="/digest" element={<DigestLinkPage />} />
        <Route path="*" element={<SignedIn />} />
      </Routes>
    </Suspense>
  );
}

const Waiting = () => (
  <Center h="60vh">
    <Loader aria-label="Loading" />
  </Center>
);

function SignedIn() {
  const session = useCall(operations.members.readSession, {});
  if (session.error instanceof Problem && session.error.status === 401) return <SignInPage />;
  if (session.error)
    return (
      <Center h="60vh">
        <Trouble error={session.error} />
      </Center>
    );
  if (!session.data) return <Waiting />;
  keepCsrf(session.data.csrf);
  return (
    <>
      <ConfirmIdentity />
      <Pages member={session.data.member} />
    </>
  );
}

function Pages({ member }: { member: Member }) {
  return (
    <Routes>
      <Route path="/" element={<AppsPage member={member} />} />
      <Route path="/:app/:environment" element={<Shell member={member} />}>
        <Route index element={<Navigate to="overview" replace />} />
        <Route path="overview" element={<OverviewPage />} />
        <Route path="data" element={<CollectionsPage />} />
        <Route path="data/:collection" element={<CollectionPage />} />
        <Route path="users" element={<UsersPage />} />
        <Route path="entry" element={<EntryPage />} />
        <Route path="compose" element={<ComposePage />} />
        <Route path="sent" element={<SentPage />} />
        <Route path="sent/:id" element={<NotificationPage />} />
        <Route path="functions" element={<FunctionsPage />} />
        <Route path="schedules" element={<SchedulesPage />} />
        <Route path="broadcasts" element={<BroadcastsPage />} />
        <Route path="sites" element={<SitesPage />} />
        <Route path="files" element={<FilesPage />} />
        <Route path="upstreams" element={<UpstreamsPage />} />
        <Route path="uses" element={<UsesPage />} />
        <Route path="outside" element={<OutsidePage />} />
        <Route path="standing" element={<StandingPage />} />
        <Route path="releases" element={<ReleasesPage />} />
        <Route path="backups" element={<BackupsPage />} />
        <Route path="sync" element={<SyncPage />} />
        <Route path="topics" element={<TopicsPage />} />
        <Route path="channels" element={<ChannelsPage />} />
        <Route path="devices" element={<DevicesPage />} />
        <Route path="sms-inbox" element={<SmsInboxPage />} />
        <Route path="gateways" element={<GatewaysPage />} />
        <Route path="condition" element={<ConditionPage />} />
        <Route path="incidents" element={<IncidentsPage />} />
        <Route path="alerts" element={<AlertsPage />} />
        <Route path="requests" element={<RequestsPage />} />
        <Route path="log" element={<LogPage />} />
        <Route path="errors" element={<ErrorsPage />} />
        <Route path="jobs" element={<JobsPage />} />
        <Route path="reports" element={<ReportsPage />} />
        <Route path="reports/:id" element={<ReportPage />} />
        <Route path="sheet" element={<SheetPage />} />
        <Route path="sheets/:id" element={<OwnSheetPage />} />
        <Route path="where" element={<WherePage />} />
        <Route path="arrivals" element={<ArrivalsPage />} />
        <Route path="visits" element={<VisitsPage />} />
        <Route path="insight-events" element={<InsightEventsPage />} />
        <Route path="funnels" element={<FunnelsPage />} />
        <Route path="returns" element={<ReturnsPage />} />
        <Route path="paths" element={<PathsPage />} />
        <Route path="event-plan" element={<EventPlanPage />} />
        <Route path="api-use" element={<ApiUsePage />} />
        <Route path="setup" element={<ClientsPage />} />
        <Route path="first-calls" element={<FirstCallsPage />} />
        <Route path="environments" element={<EnvironmentsPage />} />
        <Route path="team" element={<TeamPage />} />
        <Route path="tokens" element={<TokensPage />} />
        <Route path="audit" element={<AuditPage />} />
        <Route path="installation" element={<InstallationPage />} />
        <Route path="account" element={<AccountPage />} />
        <Route path="*" element={<NoPage />} />
      </Route>
      <Route path="*" element={<NoPage />} />
    </Routes>
  );
}

function NoPage() {
  return (
    <Center h="60vh">
      <Empty title="There is no page at this address">
        <Anchor component={Link} to="/">
          All apps
        </Anchor>
      </Empty>
    </Center>
  );
}
