/** The mails about accounts. */

export const ACCOUNT_MAILS = [
  'confirm-address',
  'address-taken',
  'new-password',
  'change-address',
  'address-changed',
  'invitation',
  'sign-in-code',
  'sign-in-link',
  'new-sign-in',
  'account-deleted',
] as const;
export type AccountMail = (typeof ACCOUNT_MAILS)[number];
export type MailText = { subject: string; text: string };
