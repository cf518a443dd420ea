/** The team: who has access to what, invitations, roles. */
import { Button, Drawer, Group, Modal, Select, Stack, Switch, Text, TextInput, Title } from '@mantine/core';
import { useDisclosure } from '@mantine/hooks';
import { type App, type Invitation, operations, ROLE_SENTENCES, ROLES, type Role, type TeamMember } from '@orchard/contract';
import { useState } from 'react';
import { useCall, useChange } from '../api.js';
import { useAddressState, useEnvironment } from '../environment.js';
import { AccessMatrix, roleIn, TeamNotes } from '../parts/access.js';
import { CopyText, Facts, Loaded, Moment, PageHead, Trouble } from '../parts/basics.js';
import { ConfirmedButton } from '../parts/confirmed.js';
import { coded, FromCode } from '../parts/fromCode.js';
import { FormOf, useOperationForm } from '../parts/operationForm.js';
import { roleOf } from '../parts/role.js';
import { MemberEntryWays } from '../people/memberEntry.js';
import { RoleChoice } from '../parts/roleChoice.js';

export function TeamPage() {
  const session = useCall(operations.members.readSession, {});
  const members = useCall(operations.members.list, {});
  const apps = useCall(operations.apps.list, {});
  const [open, setOpen] = useAddressState('open');
  const isOwner = session.data?.member.owner ?? false;
  const shown = members.data?.items.find(({ id }) => id === open);
  return (
    <>
      <PageHead title="Team" hint="Members of this installation, and their role in each environment">
        {isOwner && <Invite apps={apps.data?.items ?? []} />}
        <FromCode calls={[coded(operations.members.list, {})]} />
      </PageHead>
      <Loaded of={members}>
        {({ items }) => (
          <Stack>
            <TeamNotes members={items} />
            <Loaded of={apps}>{(all) => <AccessMatrix members={items} apps={all.items} onOpen={setOpen} />}</Loaded>
            <Facts of={ROLES.map((role) => [role, ROLE_SENTENCES[role]])} />
            {isOwner && <MemberEntryWays />}
            {isOwner && apps.data && <Demands apps={apps.data.items} />}
          </Stack>
        )}
      </Loaded>
      <Drawer opened={Boolean(shown)} onClose={() => setOpen(null)} position="right" size="lg" title="Member">
        {shown && <OneMember key={shown.id} member={shown} apps={apps.data?.items ?? []} editable={isOwner} onGone={() => setOpen(null)} />}
      </Drawer>
    </>
  );
}

/** Which apps give the rights of maintainers and owners only with a second factor. */
function Demands({ apps }: { apps: App[] }) {
  const patch = useChange(operations.apps.patch);
  return (
    <section className="panel">
      <Title order={2} mb={4}>
        Second factor
      </Title>
      <Text size="sm" c="dimmed" mb="xs">
        Where an app demands one, maintainers and owners without it have the rights of a developer.
      </Text>
      <Stack gap={6}>
        {apps.map(({ name, secondFactor }) => (
          <Switch
            key={name}
            label={`${name} demands a second factor of maintainers and owners`}
            checked={secondFactor}
            disabled={patch.isPending}
            onChange={({ currentTarget }) => patch.mutate({ params: { app: name }, body: { secondFactor: currentTarget.checked } })}
          />
        ))}
      </Stack>
      <Trouble error={patch.error} />
    </section>
  );
}

function Invite({ apps }: { apps: App[] }) {
  const [opened, { open, close }] = useDisclosure();
  return (
    <>
      <Button onClick={open}>Invite member</Button>
      <Modal opened={opened} onClose={close} title="Invite member">
        {opened && <InviteForm apps={apps} onDone={close} />}
      </Modal>
    </>
  );
}

function InviteForm({ apps, onDone }: { apps: App[]; onDone: () => void }) {
  const { params } = useEnvironment();
  const [invitation, setInvitation] = useState<Invitation | null>(null);
  const add = useOperationForm(operations.members.add, {
    initial: { email: '', name: '', app: params.app, environment: '', role: 'developer' as Role },
    input: ({ email, name, ...chosen }) => ({
      body: { email, ...(name ? { name } : {}), roles: [roleOf(chosen)] },
    }),
    onDone: (made) => setInvitation(made.invitation),
  });
  if (invitation) return <Sent invitation={invitation} to={add.form.values.email} onDone={onDone} />;
  const { getInputProps } = add.form;
  return (
    <FormOf of={add} verb="Send invitation">
      <TextInput label="E-mail address" type="email" required data-autofocus {...getInputProps('email')} />
      <TextInput label="Name" description="The member can choose another" {...getInputProps('name')} />
      <RoleChoice form={add.form} apps={apps} />
    </FormOf>
  );
}

/** What came of an invitation: on its way by mail, or an address to pass on. */
function Sent({ invitation, to, onDone }: { invitation: Invitation; to: string; onDone: () => void }) {
  return (
    <Stack>
      {invitation.mailed ? (
        <Text>The invitation is on its way to {to}.</Text>
      ) : (
        <>
          <Text className="care">{invitation.reason}</Text>
          <CopyText text={invitation.address ?? ''} label="Copy the one-time address" />
        </>
      )}
      <Text size="sm" c="dimmed">
        It can be accepted once, until <Moment at={invitation.expiresAt} />.
      </Text>
      <Group justify="flex-end">
        <Button onClick={onDone}>Done</Button>
      </Group>
    </Stack>
  );
}

type MemberProps = { member: TeamMember; apps: App[]; editable: boolean; onGone: () => void };

function OneMember({ member, apps, editable, onGone }: MemberProps) {
  const [invitation, setInvitation] = useState<Invitation | null>(null);
  const patch = useChange(operations.members.patch);
  const invite = useChange(operations.members.invite);
  const remove = useChange(operations.members.remove);
  const reset = useChange(operations.secondFactors.reset, [operations.members]);
  const at = { params: { member: member.id } };
  return (
    <Stack>
      <Facts
        of={[
          ['Name', member.name],
          ['E-mail', member.email],
          ['Joined', member.joinedAt ? <Moment key="j" at={member.joinedAt} /> : 'invited'],
          ['Last seen', <Moment key="s" at={member.lastSeenAt} />],
          ...(member.reachableBy === null ? [] : [['Reachable by', member.reachableBy.join(', ') || 'nothing yet'] as [string, string]]),
          ...(member.secondFactor === null ? [] : [['Second factor', member.secondFactor ? 'yes' : 'none'] as [string, string]]),
        ]}
      />
      {editable && (
        <Switch
          label="Owner of the installation: every right in every environment, and the team"
          checked={member.owner}
          onChange={({ currentTarget }) => patch.mutate({ ...at, body: { owner: currentTarget.checked } })}
        />
      )}
      <Title order={3}>Roles</Title>
      {member.owner && <Text size="sm">An owner of the installation has the role owner everywhere.</Text>}
      {!member.owner && (
        <Roles
          member={member}
          apps={apps}
          editable={editable && !patch.isPending}
          onChange={(app, environment, role) => patch.mutate({ ...at, body: { roles: [{ app, environment, role }] } })}
        />
      )}
      <Trouble error={patch.error ?? invite.error} />
      {invitation && <Sent invitation={invitation} to={member.email ?? ''} onDone={() => setInvitation(null)} />}
      {editable && (
        <Group>
          {member.joinedAt === null && (
            <Button variant="default" loading={invite.isPending} onClick={() => invite.mutate(at, { onSuccess: setInvitation })}>
              Invite again
            </Button>
          )}
          {member.secondFactor && (
            <ConfirmedButton
              label="Reset second factor"
              verb="Reset"
              question={`Remove all second factors of ${member.name}?`}
              consequence="For a member who has lost them. Sessions end at once; until a new one is added, the password alone signs in."
              change={reset}
              onConfirm={(done) => reset.mutate(at, { onSuccess: done })}
            />
          )}
          <ConfirmedButton
            label="Remove member"
            verb="Remove"
            question={`Remove ${member.name}?`}
            consequence="Sessions, streams, roles and automation tokens that the member created end at once. What the member changed stays."
            change={remove}
            onConfirm={() => remove.mutate(at, { onSuccess: onGone })}
          />
        </Group>
      )}
    </Stack>
  );
}

const NONE = 'none';
function Roles({
  member,
  apps,
  editable,
  onChange,
}: Pick<MemberProps, 'member' | 'apps' | 'editable'> & { onChange: (app: string, environment: string, role: Role | null) => void }) {
  return (
    <Stack gap={6}>
      {apps.flatMap(({ name: app, environments }) =>
        environments.map(({ name }) => (
          <Group key={`${app}/${name}`} justify="space-between">
            <Text size="sm">
              {app} / {name}
            </Text>
            <Select
              aria-label={`Role in ${app}/${name}`}
              size="xs"
              w={140}
              disabled={!editable}
              allowDeselect={false}
              data={[NONE, ...ROLES]}
              value={roleIn(member, app, name) ?? NONE}
              onChange={(role) => onChange(app, name, role === NONE ? null : (role as Role))}
            />
          </Group>
        )),
      )}
    </Stack>
  );
}
