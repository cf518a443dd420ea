/** Who sent a message, as apps see it. */
import type { ChannelMessage } from '@orchard/contract';

/** Which member or key it was is the team's own: to apps a message is from a user, a client, a server, the team or the service. */
export function forApps(message: ChannelMessage): ChannelMessage {
  const { kind, id } = message.sender;
  return kind === 'user'
    ? message
    : { ...message, sender: { kind, id: kind === 'client' ? id : null, name: kind === 'member' ? 'the team' : null } };
}
