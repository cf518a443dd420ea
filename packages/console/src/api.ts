/** Calls to the service, with what they answer kept and refreshed. */
import { type CallInput, createHttpClient, Problem, type ReplyOf } from '@orchard/contract';
import { QueryClient, useMutation, useQuery, type UseQueryResult } from '@tanstack/react-query';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type AnyOperation = import('@orchard/contract').Operation<any, any, any, any>;

let csrf = '';
/** Keeps the value that GET /manage/v1/session answers; writes are refused without it. */
export const keepCsrf = (value: string | undefined): void => {
  csrf = value ?? '';
};

export const csrfHeaders = (): Record<string, string> => (csrf ? { 'orchard-csrf': csrf } : {});
export const api = createHttpClient({ address: '', headers: csrfHeaders });

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (failures, error) => !(error instanceof Problem && error.status < 500) && failures < 2,
      staleTime: 1_000,
      refetchOnWindowFocus: false,
    },
  },
});

/** For short lists that nothing tells of: read again while they are looked at. */
export const OFTEN = { refetchInterval: 5_000 };

/** The answer of a reading call. */
export function useCall<O extends AnyOperation>(
  operation: O,
  input: CallInput<O>,
  options: { enabled?: boolean; refetchInterval?: number } = {},
): UseQueryResult<ReplyOf<O>> {
  return useQuery({
    queryKey: [operation.id, input],
    queryFn: ({ signal }) => api.call(operation, { ...input, signal }),
    placeholderData: (before: ReplyOf<O> | undefined) => before,
    ...options,
  }) as UseQueryResult<ReplyOf<O>>;
}

/** A writing call; what `refresh` names (beginnings of operation ids) is read anew afterwards. */
export function useChange<O extends AnyOperation>(operation: O, refresh: string[] = []) {
  return useMutation<ReplyOf<O>, Error, CallInput<O>>({
    mutationFn: (input) => api.call(operation, input),
    onSuccess: () => refreshCalls(...refresh),
  });
}

/** Reads anew whatever on the page came from these operations. */
export async function refreshCalls(...prefixes: string[]): Promise<void> {
  await queries.invalidateQueries({ predicate: ({ queryKey }) => prefixes.some((prefix) => String(queryKey[0]).startsWith(prefix)) });
}

/** What went wrong, in the service's own words. */
export function describeError(error: unknown): string {
  if (error instanceof Problem)
    return error.extras.fields?.length ? error.extras.fields.map(({ problem }) => problem).join(' ') : error.detail;
  return error instanceof TypeError ? 'The service cannot be reached. Is it running?' : String((error as Error).message);
}
