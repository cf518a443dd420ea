/** Which page stands at which address. */
import { Center, Loader } from '@mantine/core';
import { operations, Problem } from '@orchard/contract';
import { Navigate, Route, Routes } from 'react-router';
import { keepCsrf, useCall } from './api.js';
import { Trouble } from './parts/basics.js';
import { ApiUsePage } from './pages/apiUse.js';
import { AppsPage } from './pages/apps.js';
import { ChannelsPage } from './pages/channels.js';
import { ClientsPage } from './pages/clients.js';
import { CollectionPage } from './pages/collection.js';
import { CollectionsPage } from './pages/collections.js';
import { ComposePage } from './pages/compose.js';
import { DevicesPage } from './pages/devices.js';
import { EnvironmentsPage } from './pages/environments.js';
import { GatewaysPage } from './pages/gateways.js';
import { JobsPage } from './pages/jobs.js';
import { NotificationPage } from './pages/notification.js';
import { OverviewPage } from './pages/overview.js';
import { QuickStartPage } from './pages/quickStart.js';
import { RequestsPage } from './pages/requests.js';
import { SentPage } from './pages/sent.js';
import { SmsInboxPage } from './pages/smsInbox.js';
import { ForgotPasswordPage, NewPasswordPage, SetupPage, SignInPage } from './pages/signIn.js';
import { TopicsPage } from './pages/topics.js';
import { UsersPage } from './pages/users.js';
import { Shell } from './shell/shell.js';

export function Console() {
  return (
    <Routes>
      <Route path="/setup" element={<SetupPage />} />
      <Route path="/sign-in" element={<SignInPage />} />
      <Route path="/forgot-password" element={<ForgotPasswordPage />} />
      <Route path="/new-password" element={<NewPasswordPage />} />
      <Route path="*" element={<SignedIn />} />
    </Routes>
  );
}

function SignedIn() {
  const session = useCall(operations.members.readSession, {});
  if (session.error instanceof Problem && session.error.status === 401) return <SignInPage />;
  if (session.error)
    return (
      <Center h="60vh">
        <Trouble error={session.error} />
      </Center>
    );
  if (!session.data)
    return (
      <Center h="60vh">
        <Loader aria-label="Loading" />
      </Center>
    );
  keepCsrf(session.data.csrf);
  return (
    <Routes>
      <Route path="/" element={<AppsPage member={session.data.member} />} />
      <Route path="/:app/:environment" element={<Shell member={session.data.member} />}>
        <Route index element={<Navigate to="overview" replace />} />
        <Route path="overview" element={<OverviewPage />} />
        <Route path="data" element={<CollectionsPage />} />
        <Route path="data/:collection" element={<CollectionPage />} />
        <Route path="users" element={<UsersPage />} />
        <Route path="compose" element={<ComposePage />} />
        <Route path="sent" element={<SentPage />} />
        <Route path="sent/:id" element={<NotificationPage />} />
        <Route path="topics" element={<TopicsPage />} />
        <Route path="channels" element={<ChannelsPage />} />
        <Route path="devices" element={<DevicesPage />} />
        <Route path="sms-inbox" element={<SmsInboxPage />} />
        <Route path="gateways" element={<GatewaysPage />} />
        <Route path="requests" element={<RequestsPage />} />
        <Route path="jobs" element={<JobsPage />} />
        <Route path="api-use" element={<ApiUsePage />} />
        <Route path="setup" element={<ClientsPage />} />
        <Route path="quick-start" element={<QuickStartPage />} />
        <Route path="environments" element={<EnvironmentsPage />} />
      </Route>
    </Routes>
  );
}
