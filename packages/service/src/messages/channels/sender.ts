/** Who sent a message, as apps see it. */
import type { ChannelMessage } from '@orchard/contract';

/** Members' addresses and the names of keys are the team's own: to apps a message is from a user, a client, a server or the team. */
export function forApps(message: ChannelMessage): ChannelMessage {
  const { sender } = message;
  if (sender.startsWith('user ')) return message;
  const kind = /^(client|server) key /.exec(sender)?.[1];
  return { ...message, sender: kind ?? (sender.includes('@') ? 'team' : 'service') };
}
