/** What a site answers to a path, from the files of its version. */

export type SiteContent = { digest: string; size: number };
/** `packed` holds the same bytes with a content coding, where that is worth it. */
export type SiteFile = SiteContent & { type: string; packed?: { br?: SiteContent; gzip?: SiteContent } };
export const REDIRECT_STATUSES = [301, 302, 307, 308] as const;
/** `from` may end in `*`, which stands for the rest of the path; `to` takes it over with a `*` of its own. */
export type SiteRedirect = { from: string; to: string; status: (typeof REDIRECT_STATUSES)[number] };
/** `path` may end in `*`. */
export type SiteHeader = { path: string; name: string; value: string };
export type SiteAnswer = { file: string; status: 200 | 404 } | { to: string; status: number } | { status: 404 };

/** The rest of a path behind a pattern; null where it does not fit. */
function restOf(pattern: string, path: string): string | null {
  if (!pattern.endsWith('*')) return pattern === path ? '' : null;
  const beginning = pattern.slice(0, -1);
  return path.startsWith(beginning) ? path.slice(beginning.length) : null;
}

/**
 * @param has whether the version holds a file
 * @param path decoded, beginning with `/`
 */
export function siteAnswer(
  has: (file: string) => boolean,
  { redirects, fallback }: { redirects: readonly SiteRedirect[]; fallback: string | null },
  path: string,
): SiteAnswer {
  for (const { from, to, status } of redirects) {
    const rest = restOf(from, path);
    if (rest !== null) return { to: to.replace('*', rest), status };
  }
  const file = path.slice(1);
  const inFolder = file === '' || file.endsWith('/');
  if (inFolder && has(`${file}index.html`)) return { file: `${file}index.html`, status: 200 };
  if (!inFolder && has(file)) return { file, status: 200 };
  // Relative links of a folder's page lead on from the address with a slash.
  if (!inFolder && has(`${file}/index.html`)) return { to: `${path}/`, status: 308 };
  if (!inFolder && has(`${file}.html`)) return { file: `${file}.html`, status: 200 };
  // A missing picture or script is missing; only pages are the fallback's.
  const isPage = !/\.[^/]+$/.test(file) || file.endsWith('.html');
  if (fallback && isPage && has(fallback)) return { file: fallback, status: 200 };
  return has('404.html') ? { file: '404.html', status: 404 } : { status: 404 };
}

/** Headers of the team's own for a path; a later one of the same name holds. */
export function siteHeaders(headers: readonly SiteHeader[], path: string): Map<string, string> {
  return new Map(headers.filter((one) => restOf(one.path, path) !== null).map(({ name, value }) => [name.toLowerCase(), value]));
}

/** A name with a hash in it, as bundlers write them: its content never changes. */
export const isHashedName = (file: string): boolean => /[.-](?=[A-Za-z0-9_]*\d)[A-Za-z0-9_]{8,}\.[a-z0-9.]+$/.test(file);

export type FileChange = { path: string; change: 'added' | 'changed' | 'removed'; before: number | null; after: number | null };
/** How the files of two versions differ, by path. Sizes are in bytes. */
export function siteDifference(before: ReadonlyMap<string, SiteContent>, after: ReadonlyMap<string, SiteContent>): FileChange[] {
  const paths = [...new Set([...before.keys(), ...after.keys()])].sort();
  return paths.flatMap((path): FileChange[] => {
    const [old, fresh] = [before.get(path), after.get(path)];
    if (old && fresh) return old.digest === fresh.digest ? [] : [{ path, change: 'changed', before: old.size, after: fresh.size }];
    return [{ path, change: old ? 'removed' : 'added', before: old?.size ?? null, after: fresh?.size ?? null }];
  });
}
