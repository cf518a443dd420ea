/** Whom a notification is for, in a few words. */
import type { Notification } from '@orchard/contract';

export function audienceWords(audience: Notification['audience']): string {
  const { user, users, device, devices, topics, filter, phones, addresses } = audience;
  if (audience.everyone) return 'everyone';
  if (user) return `user …${user.slice(-8)}`;
  if (users) return users.length === 1 ? `user …${users[0]?.slice(-8)}` : `${users.length} users`;
  if (device) return `device ${device}`;
  if (devices) return devices.length === 1 ? `device ${devices[0]}` : `${devices.length} devices`;
  if (phones) return phones.length === 1 ? String(phones[0]) : `${phones.length} numbers`;
  if (addresses) return addresses.length === 1 ? String(addresses[0]) : `${addresses.length} addresses`;
  const parts = [
    topics?.any && `followers of ${topics.any.join(' or ')}`,
    topics?.all && `followers of ${topics.all.join(' and ')}`,
    topics?.not && `not of ${topics.not.join(', ')}`,
    filter && `devices where ${filter}`,
  ];
  return parts.filter(Boolean).join(', ');
}
