/**
 * The version of an app by its user agent, `QuillfellHiker/2.4.1 (iOS 19.2)`: the first product of RFC 9110 section 10.1.5.
 * Browsers say Mozilla for reasons of their own, and are no version of the app.
 */
export function versionOf(userAgent: string): string | null {
  const [, product, version] = /^([\w.-]+)\/(\d[\w.+-]{0,39})/.exec(userAgent) ?? [];
  return version && product !== 'Mozilla' ? version : null;
}

/** Versions of numbers with dots, number by number; a missing number is 0, and what follows a hyphen or plus does not count. */
export function compareVersions(a: string, b: string): number {
  const numbers = (version: string) => (version.split(/[-+]/)[0] ?? '').split('.').map((part) => Number.parseInt(part, 10) || 0);
  const [left, right] = [numbers(a), numbers(b)];
  for (let i = 0; i < Math.max(left.length, right.length); i++) {
    const difference = (left[i] ?? 0) - (right[i] ?? 0);
    if (difference !== 0) return Math.sign(difference);
  }
  return 0;
}
