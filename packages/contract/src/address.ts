/** The address of one call, parameters filled in: the path below the service's address, with its query. */
export function addressOf(
  { path: template }: { path: string },
  { params, query }: { params?: Record<string, unknown> | undefined; query?: Record<string, unknown> | undefined },
): string {
  const path = template.replace(/\{(\w+)(\.\.\.)?\}/g, (_, name: string, several?: string) => {
    const value = String(params?.[name] ?? '');
    return several ? value.split('/').map(encodeURIComponent).join('/') : encodeURIComponent(value);
  });
  const asked = new URLSearchParams();
  for (const [name, value] of Object.entries(query ?? {})) {
    if (value !== undefined && value !== null && value !== '') asked.append(name, String(value));
  }
  return asked.size ? `${path}?${asked}` : path;
}
