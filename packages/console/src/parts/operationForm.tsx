/** Forms that are checked with the operation's schemas before the call, and that show the service's errors at the fields. */
import { Button, Group, Stack } from '@mantine/core';
import { type FormErrors, type UseFormReturnType, useForm } from '@mantine/form';
import { type CallInput, expectedOf, type Operation, Problem, type ReplyOf } from '@orchard/contract';
import type { ReactNode } from 'react';
import { type Stale, useChange } from '../api.js';
import { Trouble } from './basics.js';

// biome-ignore lint/suspicious/noExplicitAny: an operation of any shape
type Any = Operation<any, any, any, any>;
type Checked = { success: boolean; error?: { issues: Parameters<typeof expectedOf>[0][] } };

export type OperationForm<Values extends Record<string, unknown>> = {
  form: UseFormReturnType<Values>;
  submit: (event?: React.FormEvent<HTMLFormElement>) => void;
  /** Errors that belong to no field of the form. */
  error: unknown;
  isPending: boolean;
};

/** Messages by the fields of the form they belong to; those of other fields, with their paths, under ''. */
function errorsOf(values: object, issues: { path: string; message: string }[]): FormErrors {
  const errors: FormErrors = {};
  const named = new Set(leaves(values));
  for (const { path, message } of issues) {
    // The service's paths begin with the part of the request: `body.settings.address`.
    const inside = path.replace(/^(body|params|query)\./, '');
    const field = [inside, inside.split('.').at(-1) ?? '', inside.split('.')[0] ?? ''].find((one) => named.has(one)) ?? '';
    if (field) errors[field] ??= message;
    else errors[''] = [errors[''], path ? `${inside}: ${message}` : message].filter(Boolean).join(' ');
  }
  return errors;
}

/** `rules.listen`, `keep`: the fields of a form as paths. */
function leaves(values: object, prefix = ''): string[] {
  return Object.entries(values).flatMap(([name, value]) =>
    value && typeof value === 'object' && !Array.isArray(value) && !('file' in value)
      ? [prefix + name, ...leaves(value, `${prefix}${name}.`)]
      : [prefix + name],
  );
}

/**
 * @param options.input the call for the values
 * @param options.onDone called after success
 * @param options.stale what the change makes stale; by default the operation's own group
 */
export function useOperationForm<O extends Any, Values extends Record<string, unknown>>(
  operation: O,
  options: {
    initial: Values;
    input: (values: Values) => CallInput<O>;
    onDone?: (reply: ReplyOf<O>, values: Values) => void;
    stale?: Stale[];
  },
): OperationForm<Values> {
  const change = useChange(operation, options.stale);
  const form = useForm<Values>({
    initialValues: options.initial,
    validate: (values) => {
      const { params, body } = options.input(values) as { params?: unknown; body?: unknown };
      const checks: Checked[] = [operation.params.safeParse(params ?? {}), ...(operation.body ? [operation.body.safeParse(body)] : [])];
      const issues = checks.flatMap(({ error }) => error?.issues ?? []);
      return errorsOf(
        values,
        issues.map((issue) => ({ path: issue.path.map(String).join('.'), message: `Must be ${expectedOf(issue)}.` })),
      );
    },
  });
  const takeProblem = (error: Error) => {
    if (!(error instanceof Problem)) return;
    const fields = (error.extras.fields ?? []).map(({ path, problem }) => ({ path, message: problem }));
    form.setErrors(errorsOf(form.values, fields));
  };
  const shown = change.error instanceof Problem && (change.error.extras.fields?.length ?? 0) > 0 && !form.errors[''];
  return {
    form,
    submit: form.onSubmit((values) =>
      change.mutate(options.input(values), { onSuccess: (reply) => options.onDone?.(reply, values), onError: takeProblem }),
    ),
    error: form.errors[''] ? new Error(String(form.errors[''])) : shown ? null : change.error,
    isPending: change.isPending,
  };
}

/** The form: fields, errors and button. `row` puts the button beside the fields. */
export function FormOf<Values extends Record<string, unknown>>({
  of: { submit, error, isPending },
  verb,
  row,
  disabled,
  children,
}: {
  of: OperationForm<Values>;
  verb: string;
  row?: boolean;
  disabled?: boolean;
  children: ReactNode;
}) {
  const button = (
    <Button type="submit" loading={isPending} disabled={disabled} variant={row ? 'default' : 'filled'}>
      {verb}
    </Button>
  );
  return (
    <form onSubmit={submit} noValidate>
      <Stack gap="sm">
        {row ? (
          <Group gap="xs" align="flex-end">
            {children}
            {button}
          </Group>
        ) : (
          children
        )}
        <Trouble error={error} />
        {!row && <Group justify="flex-end">{button}</Group>}
      </Stack>
    </form>
  );
}
