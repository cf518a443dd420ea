/** How people get into the apps: who may have an account, ways in without a password, and the mails about it. */
import { Tabs } from '@mantine/core';
import { operations } from '@orchard/contract';
import { useAddressState, useEnvironment } from '../environment.js';
import { PageHead } from '../parts/basics.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { AccountMails, MailOutbox } from '../people/accountMails.js';
import { EntryRulesTab } from '../people/entryRules.js';
import { SignInOutcomes } from '../people/signInOutcomes.js';
import { SignInPageLook } from '../people/signInPageLook.js';
import { SignInWays } from '../people/signInWays.js';
import { UserFields } from '../people/userFields.js';
import { UserRoles } from '../people/userRoles.js';

const own = operations.accounts;

export function EntryPage() {
  const { params } = useEnvironment();
  const [tab, setTab] = useAddressState('tab', 'rules');
  return (
    <>
      <PageHead title="Sign-in" hint="Who may have an account, how people get in, and the mails about it">
        <FromCode calls={[coded(own.rules, { params }), coded(own.mails, { params }), coded(own.outbox, { params })]} />
      </PageHead>
      <Tabs value={tab} onChange={setTab} keepMounted={false}>
        <Tabs.List mb="md">
          <Tabs.Tab value="rules">Who gets in</Tabs.Tab>
          <Tabs.Tab value="outcomes">How it went</Tabs.Tab>
          <Tabs.Tab value="ways">Outside providers</Tabs.Tab>
          <Tabs.Tab value="page">Sign-in page</Tabs.Tab>
          <Tabs.Tab value="fields">User fields</Tabs.Tab>
          <Tabs.Tab value="roles">Roles</Tabs.Tab>
          <Tabs.Tab value="mails">Mails</Tabs.Tab>
          <Tabs.Tab value="outbox">Outbox</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="rules">
          <EntryRulesTab />
        </Tabs.Panel>
        <Tabs.Panel value="outcomes">
          <SignInOutcomes />
        </Tabs.Panel>
        <Tabs.Panel value="ways">
          <SignInWays />
        </Tabs.Panel>
        <Tabs.Panel value="page">
          <SignInPageLook />
        </Tabs.Panel>
        <Tabs.Panel value="roles">
          <UserRoles />
        </Tabs.Panel>
        <Tabs.Panel value="fields">
          <UserFields />
        </Tabs.Panel>
        <Tabs.Panel value="mails">
          <AccountMails />
        </Tabs.Panel>
        <Tabs.Panel value="outbox">
          <MailOutbox />
        </Tabs.Panel>
      </Tabs>
    </>
  );
}
