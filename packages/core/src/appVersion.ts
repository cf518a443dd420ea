/**
 * The version of an app by its user agent, `QuillfellHiker/2.4.1 (iOS 19.2)`: the first product of RFC 9110 section 10.1.5.
 * Browsers say Mozilla for reasons of their own, and are no version of the app.
 */
export function versionOf(userAgent: string): string | null {
  const [, product, version] = /^([\w.-]+)\/(\d[\w.+-]{0,39})/.exec(userAgent) ?? [];
  return version && product !== 'Mozilla' ? version : null;
}
