import { PasswordInput, type PasswordInputProps } from '@mantine/core';

/** A field for a new password; the service refuses common ones. */
export function ChosenPassword(props: PasswordInputProps) {
  return <PasswordInput description="At least 8 characters; several words work well" required autoComplete="new-password" {...props} />;
}
