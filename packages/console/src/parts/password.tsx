import { PasswordInput } from '@mantine/core';

type Props = { label: string; value: string; onChange: (password: string) => void };

/** A password somebody chooses; the service says what is wrong with one that is too common. */
export function ChosenPassword({ label, value, onChange }: Props) {
  return (
    <PasswordInput
      label={label}
      description="8 characters or more; several words do well"
      required
      minLength={8}
      autoComplete="new-password"
      value={value}
      onChange={({ currentTarget }) => onChange(currentTarget.value)}
    />
  );
}
