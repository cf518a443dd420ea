/** What this room stands on. */
import type { DeviceStore } from '../../messages/devices/store.js';
import type { Platform } from '../../platform/platform.js';

export type Parts = Platform & { devices: DeviceStore };
