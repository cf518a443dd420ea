import type { Capability } from '../../platform/capability.js';
import { receiveBounces } from './bounces.js';
import type { Parts } from './parts.js';

export function mail(parts: Parts): Capability {
  const { bouncePort, host } = parts.config;
  let end: (() => Promise<void>) | null = null;
  return {
    name: 'mail',
    start: async () => {
      if (bouncePort) end = await receiveBounces(parts, bouncePort, host);
    },
    stop: () => end?.(),
  };
}
