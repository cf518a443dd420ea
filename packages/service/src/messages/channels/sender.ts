/** Who sent a message, as apps see it. */
import type { ChannelMessage } from '@orchard/contract';

/** Apps do not see which member or key it was: a message is from a user, a client, a server, the team or the service. */
export function forApps(message: ChannelMessage): ChannelMessage {
  const { kind, id } = message.sender;
  return kind === 'user'
    ? message
    : { ...message, sender: { kind, id: kind === 'client' ? id : null, name: kind === 'member' ? 'the team' : null } };
}
