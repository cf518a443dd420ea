import type { Capability } from '../../platform/capability.js';
import type { Platform } from '../../platform/platform.js';
import { messageSettingsRoutes } from './routes.js';
import { MessageSettings } from './messageSettings.js';

export function messageSettings(platform: Platform): Capability<{ messageSettings: MessageSettings }> {
  const offer = { messageSettings: new MessageSettings() };
  return { name: 'message settings', offer, routes: messageSettingsRoutes({ ...platform, ...offer }) };
}
