/** What the sign-in page says, by language. */
export type SignInTexts = {
  direction: 'ltr' | 'rtl';
  title: string;
  email: string;
  password: string;
  signIn: string;
  byCode: string;
  sendCode: string;
  codeSent: string;
  code: string;
  forgot: string;
  sendLink: string;
  linkSent: string;
  back: string;
  wrong: string;
  wrongCode: string;
  wait: string;
  expired: string;
  notConfirmed: string;
  unavailable: string;
  otherAccount: string;
};

const TEXTS: Record<string, SignInTexts> = {
  en: {
    direction: 'ltr',
    title: 'Sign in to {app}',
    email: 'E-mail address',
    password: 'Password',
    signIn: 'Sign in',
    byCode: 'Sign in with a code instead',
    sendCode: 'Send me a code',
    codeSent: 'If there is an account for {email}, a code is on its way.',
    code: 'Code',
    forgot: 'Forgot the password?',
    sendLink: 'Send me a link',
    linkSent: 'If there is an account for {email}, a link for a new password is on its way.',
    back: 'Back',
    wrong: 'E-mail address or password is wrong.',
    wrongCode: 'This code is not valid. Ask for a new one.',
    wait: 'Too many tries. Wait a moment and try again.',
    expired: 'This page has been open too long. Go back to the app and sign in again.',
    notConfirmed: 'Confirm your address first: a mail is on its way to it.',
    unavailable: 'This is not possible here at the moment.',
    otherAccount: 'There is an account with this address already. Sign in to it as before, and confirm its address.',
  },
  nb: {
    direction: 'ltr',
    title: 'Logg inn på {app}',
    email: 'E-postadresse',
    password: 'Passord',
    signIn: 'Logg inn',
    byCode: 'Logg inn med en kode i stedet',
    sendCode: 'Send meg en kode',
    codeSent: 'Finnes det en konto for {email}, er en kode på vei.',
    code: 'Kode',
    forgot: 'Glemt passordet?',
    sendLink: 'Send meg en lenke',
    linkSent: 'Finnes det en konto for {email}, er en lenke til et nytt passord på vei.',
    back: 'Tilbake',
    wrong: 'E-postadressen eller passordet er feil.',
    wrongCode: 'Koden er ikke gyldig. Be om en ny.',
    wait: 'For mange forsøk. Vent litt og prøv igjen.',
    expired: 'Siden har vært åpen for lenge. Gå tilbake til appen og logg inn på nytt.',
    notConfirmed: 'Bekreft adressen først: en e-post er på vei.',
    unavailable: 'Dette går ikke her akkurat nå.',
    otherAccount: 'Det finnes alt en konto med denne adressen. Logg inn på den som før, og bekreft adressen.',
  },
  de: {
    direction: 'ltr',
    title: 'Bei {app} anmelden',
    email: 'E-Mail-Adresse',
    password: 'Passwort',
    signIn: 'Anmelden',
    byCode: 'Stattdessen mit einem Code anmelden',
    sendCode: 'Code senden',
    codeSent: 'Falls es ein Konto für {email} gibt, ist ein Code unterwegs.',
    code: 'Code',
    forgot: 'Passwort vergessen?',
    sendLink: 'Link senden',
    linkSent: 'Falls es ein Konto für {email} gibt, ist ein Link für ein neues Passwort unterwegs.',
    back: 'Zurück',
    wrong: 'E-Mail-Adresse oder Passwort ist falsch.',
    wrongCode: 'Dieser Code gilt nicht. Fordere einen neuen an.',
    wait: 'Zu viele Versuche. Warte einen Moment und versuche es noch einmal.',
    expired: 'Diese Seite war zu lange offen. Geh zurück zur App und melde dich neu an.',
    notConfirmed: 'Bestätige zuerst deine Adresse: Eine Mail ist unterwegs.',
    unavailable: 'Das ist hier gerade nicht möglich.',
    otherAccount: 'Mit dieser Adresse gibt es schon ein Konto. Melde dich dort wie bisher an und bestätige die Adresse.',
  },
  ja: {
    direction: 'ltr',
    title: '{app} にサインイン',
    email: 'メールアドレス',
    password: 'パスワード',
    signIn: 'サインイン',
    byCode: 'コードでサインインする',
    sendCode: 'コードを送信',
    codeSent: '{email} のアカウントがあれば、コードをお送りしました。',
    code: 'コード',
    forgot: 'パスワードをお忘れですか',
    sendLink: 'リンクを送信',
    linkSent: '{email} のアカウントがあれば、新しいパスワードのリンクをお送りしました。',
    back: '戻る',
    wrong: 'メールアドレスまたはパスワードが正しくありません。',
    wrongCode: 'このコードは無効です。新しいコードを請求してください。',
    wait: '試行回数が多すぎます。しばらくしてからもう一度お試しください。',
    expired: 'このページの有効期限が切れました。アプリに戻ってもう一度サインインしてください。',
    notConfirmed: 'まずアドレスを確認してください。メールをお送りしました。',
    unavailable: '現在ご利用いただけません。',
    otherAccount: 'このアドレスのアカウントが既にあります。これまでの方法でサインインし、アドレスを確認してください。',
  },
  ar: {
    direction: 'rtl',
    title: 'تسجيل الدخول إلى {app}',
    email: 'البريد الإلكتروني',
    password: 'كلمة المرور',
    signIn: 'تسجيل الدخول',
    byCode: 'الدخول برمز بدلًا من ذلك',
    sendCode: 'أرسل لي رمزًا',
    codeSent: 'إن كان هناك حساب لـ {email} فالرمز في الطريق.',
    code: 'الرمز',
    forgot: 'نسيت كلمة المرور؟',
    sendLink: 'أرسل لي رابطًا',
    linkSent: 'إن كان هناك حساب لـ {email} فرابط كلمة المرور الجديدة في الطريق.',
    back: 'رجوع',
    wrong: 'البريد الإلكتروني أو كلمة المرور غير صحيح.',
    wrongCode: 'هذا الرمز غير صالح. اطلب رمزًا جديدًا.',
    wait: 'محاولات كثيرة. انتظر قليلًا ثم حاول مجددًا.',
    expired: 'بقيت هذه الصفحة مفتوحة طويلًا. عد إلى التطبيق وسجّل الدخول من جديد.',
    notConfirmed: 'أكّد عنوانك أولًا: أُرسلت إليه رسالة.',
    unavailable: 'هذا غير متاح هنا الآن.',
    otherAccount: 'يوجد حساب بهذا العنوان. سجّل الدخول إليه كالمعتاد وأكّد عنوانه.',
  },
};

/** The language that a person asks for first and that there is; English else. @param wanted BCP 47, most wanted first */
export function signInTexts(wanted: readonly string[]): { language: string; texts: SignInTexts } {
  for (const tag of wanted) {
    const base = (tag.split('-')[0] ?? '').toLowerCase();
    const language = base === 'no' || base === 'nn' ? 'nb' : base;
    const texts = Object.hasOwn(TEXTS, language) ? TEXTS[language] : undefined;
    if (texts) return { language, texts };
  }
  return { language: 'en', texts: TEXTS.en as SignInTexts };
}
