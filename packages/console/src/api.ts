/** Calls to the service, with their responses cached and refreshed. */
import {
  type CallInput,
  type ConfirmationMethod,
  createHttpClient,
  type HttpClient,
  operations,
  Problem,
  type ReplyOf,
} from '@orchard/contract';
import { shownWhile } from './shell/running.js';
import { QueryClient, useMutation, useQuery, type UseQueryResult } from '@tanstack/react-query';
import { useEffect, useRef } from 'react';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type AnyOperation = import('@orchard/contract').Operation<any, any, any, any>;

let csrf = '';
/** Keeps the value that GET /manage/v1/session returns; writes are refused without it. */
export const keepCsrf = (value: string | undefined): void => {
  csrf = value ?? '';
};

export const csrfHeaders = (): Record<string, string> => (csrf ? { 'orchard-csrf': csrf } : {});
const quiet = createHttpClient({ address: '', headers: csrfHeaders });
const plain: HttpClient = {
  ...quiet,
  call: (operation, input) =>
    operation.progress ? shownWhile((onProgress) => quiet.call(operation, { ...input, onProgress })) : quiet.call(operation, input),
};

/** Asks the member to prove who they are; true when that worked. */
type AskProof = (methods: ConfirmationMethod[]) => Promise<boolean>;
let askProof: AskProof = async () => false;
/** Sets who is asked before a sensitive change: the dialog of the page that is shown. */
export const onConfirmationNeeded = (ask: AskProof): void => {
  askProof = ask;
};

/** A sensitive change may need a fresh proof first; then the call is made again. */
export const api: HttpClient = {
  ...plain,
  call: async (operation, input) => {
    try {
      return await plain.call(operation, input);
    } catch (error) {
      if (!(error instanceof Problem) || error.problem !== 'confirmation-needed') throw error;
      if (!(await askProof(error.extras.methods ?? ['password']))) throw error;
      return plain.call(operation, input);
    }
  },
};

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (failures, error) => !(error instanceof Problem && error.status < 500) && failures < 2,
      staleTime: 1_000,
      refetchOnWindowFocus: false,
    },
  },
});

/** For short lists without change events: read again while they are shown. */
export const OFTEN = { refetchInterval: 5_000 };

/** The response of a reading call. */
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

/** What a change can make stale: responses of one operation, or of every operation of a group such as `operations.users`. */
export type Stale = AnyOperation | Record<string, AnyOperation>;

const isOperation = (stale: Stale): stale is AnyOperation => typeof (stale as AnyOperation).id === 'string';
const groupOf = (operation: AnyOperation): Stale[] =>
  Object.values(operations as unknown as Record<string, Record<string, AnyOperation>>).filter((group) =>
    Object.values(group).some(({ id }) => id === operation.id),
  );

interface ChangeOptions<O extends AnyOperation> {
  onSuccess?: (reply: ReplyOf<O>) => void;
  onError?: (error: Error) => void;
  onSettled?: () => void;
}

/**
 * A writing call; what it makes stale is read again afterwards: by default the operation's own group.
 * `onSuccess` hears of the reply before anything is read again, which may take the part of the page away that asked.
 */
export function useChange<O extends AnyOperation>(operation: O, stale?: Stale[]) {
  const isShown = useIsShown();
  type Asked = { input: CallInput<O>; onSuccess?: ChangeOptions<O>['onSuccess'] };
  const change = useMutation<ReplyOf<O>, Error, Asked>({
    mutationFn: ({ input }) => api.call(operation, input),
    onSuccess: (reply, { onSuccess }) => {
      if (isShown()) onSuccess?.(reply);
      return refreshCalls(...(stale ?? groupOf(operation)));
    },
  });
  return {
    ...change,
    variables: change.variables?.input,
    mutate: (input: CallInput<O>, { onSuccess, ...options }: ChangeOptions<O> = {}) => change.mutate({ input, onSuccess }, options),
    mutateAsync: (input: CallInput<O>) => change.mutateAsync({ input }),
  };
}

/** Whether the component that asks is still on the page. */
function useIsShown(): () => boolean {
  const shown = useRef(true);
  useEffect(() => {
    shown.current = true;
    return () => {
      shown.current = false;
    };
  }, []);
  return () => shown.current;
}

/** Reads again what the page shows of these operations. */
export async function refreshCalls(...stale: Stale[]): Promise<void> {
  const ids = new Set(stale.flatMap((one) => (isOperation(one) ? one.id : Object.values(one).map(({ id }) => id))));
  await queries.invalidateQueries({ predicate: ({ queryKey }) => ids.has(String(queryKey[0])) });
}

/** The service's own message for a failure. */
export function describeError(error: unknown): string {
  if (error instanceof Problem)
    return error.extras.fields?.length ? error.extras.fields.map(({ problem }) => problem).join(' ') : error.detail;
  return error instanceof TypeError ? 'The service cannot be reached. Is it running?' : String((error as Error).message);
}
