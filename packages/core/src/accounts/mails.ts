/** Mails about accounts: what each says in each language, and the variables it may use. */
import { fillTemplate, parseTemplate, sentence, TemplateError, unknownVariable } from '../messages/template.js';
import type { AccountMail, MailText } from './kinds.js';
import { TEXTS } from './texts.js';

/** By kind and language: texts of the team's own. */
export type OwnTexts = Partial<Record<AccountMail, Record<string, MailText>>>;

/** The variables of each, with values for a preview. Those of all come first. */
const COMMON = { app: 'Quillfell Hiker', name: 'Runa', email: 'runa@hikers.example' };
const LINK = { link: 'https://huts.quillfell.example/account?token=…', hours: '1' };
export const MAIL_SAMPLES: Record<AccountMail, Record<string, string>> = {
  'confirm-address': { ...COMMON, ...LINK, hours: '24' },
  'address-taken': { ...COMMON },
  'new-password': { ...COMMON, ...LINK },
  'change-address': { ...COMMON, ...LINK, hours: '24' },
  'address-changed': { ...COMMON, newEmail: 'runa.fell@hikers.example' },
  invitation: { ...COMMON, ...LINK, hours: '168' },
  'sign-in-code': { ...COMMON, code: '482 913', minutes: '10' },
  'sign-in-link': { ...COMMON, link: LINK.link, minutes: '10' },
  'new-sign-in': { ...COMMON, client: 'hiker-android', at: '26 November 2026, 14:05 UTC' },
  'account-deleted': { ...COMMON },
};
/** What a mail is useless without. */
const NEEDED: Partial<Record<AccountMail, string>> = {
  'confirm-address': 'link',
  'new-password': 'link',
  'change-address': 'link',
  invitation: 'link',
  'sign-in-code': 'code',
  'sign-in-link': 'link',
};

/** The languages that every mail is there in. */
export const MAIL_LANGUAGES = ['en', 'nb', 'de', 'ja', 'ar'] as const;
const languageOf = (locale: string): string => (/^n[on]\b/i.test(locale) ? 'nb' : (locale.split('-')[0] ?? 'en').toLowerCase());

/** The text of a mail: the team's own in the locale or its language, else ours, else English. */
export function mailText(kind: AccountMail, locale: string, own: OwnTexts = {}): MailText {
  const texts = own[kind] ?? {};
  const language = languageOf(locale);
  return texts[locale] ?? texts[language] ?? TEXTS[language]?.[kind] ?? texts.en ?? (TEXTS.en as Record<AccountMail, MailText>)[kind];
}

export const fillMail = ({ subject, text }: MailText, values: Record<string, string>): MailText => ({
  subject: fillTemplate(parseTemplate(subject), values),
  text: fillTemplate(parseTemplate(text), values),
});

/** What is wrong with a text of the team's own, in words; null when it can be sent. */
export function checkMailText(kind: AccountMail, { subject, text }: MailText): { path: 'subject' | 'text'; problem: string } | null {
  const known = Object.fromEntries(Object.keys(MAIL_SAMPLES[kind]).map((name) => [name, true as const]));
  for (const [path, template] of [['subject', subject] as const, ['text', text] as const]) {
    try {
      const unknown = unknownVariable(parseTemplate(template), known);
      if (unknown) return { path, problem: sentence(unknown) };
    } catch (error) {
      if (error instanceof TemplateError) return { path, problem: sentence(error.message) };
      throw error;
    }
  }
  const needed = NEEDED[kind];
  const uses = needed === undefined || parseTemplate(text).some((part) => typeof part !== 'string' && part.path[0] === needed);
  return uses ? null : { path: 'text', problem: `It must contain {${needed}}: without it, nobody can go on.` };
}
