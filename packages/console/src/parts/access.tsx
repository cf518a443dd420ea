/** Who has access to what, at a glance: members by environments. */
import { Anchor, Badge, Text } from '@mantine/core';
import type { App, Role, TeamMember } from '@orchard/contract';
import { Moment } from './basics.js';
import { counted } from './format.js';
import { Verdict } from './verdict.js';

const AWAY_MS = 90 * 86_400_000;
/** Whether a member has not been here for 90 days. */
export const isAway = ({ joinedAt, lastSeenAt }: Pick<TeamMember, 'joinedAt' | 'lastSeenAt'>, now: number): boolean =>
  joinedAt !== null && now - Date.parse(lastSeenAt ?? joinedAt) > AWAY_MS;
export const roleIn = (member: TeamMember, app: string, environment: string): Role | undefined =>
  member.owner ? 'owner' : member.roles.find((one) => one.app === app && one.environment === environment)?.role;

/** Whether a member has joined without a second factor, where that is known. */
export const isBare = ({ joinedAt, secondFactor }: Pick<TeamMember, 'joinedAt' | 'secondFactor'>): boolean =>
  joinedAt !== null && secondFactor === false;

/** What somebody responsible should know about the team. */
export function TeamNotes({ members }: { members: TeamMember[] }) {
  const notes = [
    [members.filter(({ joinedAt }) => joinedAt === null).length, 'invited and not here yet'],
    [members.filter(isBare).length, 'without a second factor'],
    [members.filter((member) => isAway(member, Date.now())).length, 'not seen for 90 days'],
  ] as const;
  const told = notes.filter(([n]) => n > 0).map(([n, what]) => `${n} ${what}`);
  return (
    <Text size="sm" c="dimmed">
      {[counted(members.length, 'member'), ...told].join(', ')}.
    </Text>
  );
}

/** Members by environments, each cell a role; the names stay in view while environments scroll. */
export function AccessMatrix({ members, apps, onOpen }: { members: TeamMember[]; apps: App[]; onOpen: (id: string) => void }) {
  const columns = apps.flatMap(({ name, environments }) =>
    environments.map((environment) => ({ app: name, environment: environment.name })),
  );
  return (
    <div className="listing access">
      <table aria-label="Roles of members">
        <thead>
          <tr>
            <th scope="col" rowSpan={2}>
              Member
            </th>
            <th scope="col" rowSpan={2}>
              Second factor
            </th>
            <th scope="col" rowSpan={2}>
              Last seen
            </th>
            {apps.map(({ name, environments }) => (
              <th key={name} scope="colgroup" colSpan={environments.length}>
                {name}
              </th>
            ))}
          </tr>
          <tr>
            {columns.map(({ app, environment }) => (
              <th key={`${app}/${environment}`} scope="col">
                {environment}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {members.map((member) => (
            <tr key={member.id}>
              <th scope="row">
                <Anchor component="button" type="button" onClick={() => onOpen(member.id)}>
                  {member.name}
                </Anchor>{' '}
                <Marks member={member} />
              </th>
              <td>{member.joinedAt !== null && member.secondFactor !== null && <Verdict well={member.secondFactor} no="none" />}</td>
              <td className={isAway(member, Date.now()) ? 'care' : undefined}>
                <Moment at={member.lastSeenAt} />
              </td>
              {columns.map(({ app, environment }) => {
                const role = roleIn(member, app, environment);
                return (
                  <td key={`${app}/${environment}`} title={role && `${role} in ${app}/${environment}`}>
                    {role ?? '–'}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Marks({ member }: { member: TeamMember }) {
  const marks = [
    member.owner && 'owner of the installation',
    member.joinedAt === null && 'invited',
    isAway(member, Date.now()) && 'not seen for 90 days',
  ];
  return marks.filter(Boolean).map((mark) => (
    <Badge key={String(mark)} ml={6} maw="none" style={{ overflow: 'visible' }} variant="outline" size="sm" color="gray" c="inherit">
      {mark}
    </Badge>
  ));
}
