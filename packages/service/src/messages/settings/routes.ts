import { operations } from '@orchard/contract';
import { bind, environmentOf, type Route } from '../../platform/call.js';
import type { Parts } from './parts.js';

export function messageSettingsRoutes({ messageSettings, now }: Parts): Route[] {
  const own = operations.sms;
  return [
    bind(own.settings, async (call) => ({ body: await messageSettings.read(environmentOf(call)) })),
    bind(own.patchSettings, async (call) => ({ body: await messageSettings.change(environmentOf(call), call.body, new Date(now())) }), {
      subject: () => 'messages',
      read: (call) => messageSettings.read(environmentOf(call)),
    }),
  ];
}
