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
  secondFactor: string;
  wrongFactor: string;
  byPasskey: string;
  passkeyRefused: string;
  noAccount: string;
  signUpTitle: string;
  name: string;
  create: string;
  weakPassword: string;
  signUpRefused: string;
  confirmSent: string;
  terms: string;
  user: string;
  wrongUser: string;
  notAdded: string;
  adding: string;
  goOn: string;
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
    secondFactor: 'Enter the code of your authenticator app, or a recovery code.',
    wrongFactor: 'This code is not valid. Enter the one the app shows now.',
    byPasskey: 'Sign in with a passkey',
    passkeyRefused: 'The passkey was not accepted. Try again, or sign in another way.',
    noAccount: 'Create an account',
    signUpTitle: 'Create an account for {app}',
    name: 'Name',
    create: 'Create the account',
    weakPassword: 'Choose a password that is harder to guess, of at least 8 characters.',
    signUpRefused: 'No account can be created with this. If you have one already, sign in.',
    confirmSent: 'A mail is on its way to {email}. Open the link in it, then sign in.',
    terms: 'I accept the terms ({terms}).',
    user: 'User name',
    wrongUser: 'User name or password is wrong.',
    notAdded: 'This account could not be added.',
    adding: 'The account that you sign in to there is added to the account {email} of {app}. If that one is not yours, close this page.',
    goOn: 'Go on',
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
    secondFactor: 'Skriv inn koden fra autentiseringsappen, eller en gjenopprettingskode.',
    wrongFactor: 'Koden er ikke gyldig. Skriv inn den appen viser nå.',
    byPasskey: 'Logg inn med passnøkkel',
    passkeyRefused: 'Passnøkkelen ble ikke godtatt. Prøv igjen, eller logg inn på en annen måte.',
    noAccount: 'Opprett en konto',
    signUpTitle: 'Opprett en konto for {app}',
    name: 'Navn',
    create: 'Opprett kontoen',
    weakPassword: 'Velg et passord som er vanskeligere å gjette, på minst 8 tegn.',
    signUpRefused: 'Det kan ikke opprettes en konto med dette. Har du en alt, logg inn.',
    confirmSent: 'En e-post er på vei til {email}. Åpne lenken i den, og logg så inn.',
    terms: 'Jeg godtar vilkårene ({terms}).',
    user: 'Brukernavn',
    wrongUser: 'Brukernavnet eller passordet er feil.',
    notAdded: 'Kontoen kunne ikke legges til.',
    adding: 'Kontoen du logger inn på der, legges til kontoen {email} på {app}. Er den ikke din, lukk denne siden.',
    goOn: 'Fortsett',
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
    secondFactor: 'Gib den Code deiner Authenticator-App oder einen Wiederherstellungscode ein.',
    wrongFactor: 'Dieser Code gilt nicht. Gib den ein, den die App jetzt zeigt.',
    byPasskey: 'Mit einem Passkey anmelden',
    passkeyRefused: 'Der Passkey wurde nicht angenommen. Versuche es noch einmal, oder melde dich anders an.',
    noAccount: 'Konto anlegen',
    signUpTitle: 'Konto für {app} anlegen',
    name: 'Name',
    create: 'Konto anlegen',
    weakPassword: 'Wähle ein Passwort mit mindestens 8 Zeichen, das schwerer zu erraten ist.',
    signUpRefused: 'Damit lässt sich kein Konto anlegen. Falls du schon eins hast, melde dich an.',
    confirmSent: 'Eine Mail an {email} ist unterwegs. Öffne den Link darin, und melde dich dann an.',
    terms: 'Ich nehme die Bedingungen an ({terms}).',
    user: 'Benutzername',
    wrongUser: 'Benutzername oder Passwort ist falsch.',
    notAdded: 'Dieses Konto konnte nicht hinzugefügt werden.',
    adding:
      'Das Konto, bei dem du dich dort anmeldest, wird dem Konto {email} von {app} hinzugefügt. Falls dieses nicht deins ist, schließe diese Seite.',
    goOn: 'Weiter',
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
    secondFactor: '認証アプリのコード、または回復コードを入力してください。',
    wrongFactor: 'このコードは無効です。アプリに今表示されているコードを入力してください。',
    byPasskey: 'パスキーでサインイン',
    passkeyRefused: 'パスキーを確認できませんでした。もう一度試すか、別の方法でサインインしてください。',
    noAccount: 'アカウントを作成',
    signUpTitle: '{app} のアカウントを作成',
    name: '名前',
    create: 'アカウントを作成',
    weakPassword: '推測されにくい、8 文字以上のパスワードを選んでください。',
    signUpRefused: 'この内容ではアカウントを作成できません。既にお持ちの場合はサインインしてください。',
    confirmSent: '{email} にメールをお送りしました。メールのリンクを開いてから、サインインしてください。',
    terms: '利用規約（{terms}）に同意します。',
    user: 'ユーザー名',
    wrongUser: 'ユーザー名またはパスワードが正しくありません。',
    notAdded: 'このアカウントを追加できませんでした。',
    adding:
      'そこでサインインするアカウントが、{app} のアカウント {email} に追加されます。ご自身のものでない場合は、このページを閉じてください。',
    goOn: '続ける',
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
    secondFactor: 'أدخل رمز تطبيق المصادقة أو رمز استرداد.',
    wrongFactor: 'هذا الرمز غير صالح. أدخل الرمز الذي يعرضه التطبيق الآن.',
    byPasskey: 'الدخول بمفتاح مرور',
    passkeyRefused: 'لم يُقبل مفتاح المرور. حاول مجددًا أو سجّل الدخول بطريقة أخرى.',
    noAccount: 'إنشاء حساب',
    signUpTitle: 'إنشاء حساب في {app}',
    name: 'الاسم',
    create: 'إنشاء الحساب',
    weakPassword: 'اختر كلمة مرور يصعب تخمينها، من 8 أحرف على الأقل.',
    signUpRefused: 'لا يمكن إنشاء حساب بهذه البيانات. إن كان لديك حساب فسجّل الدخول.',
    confirmSent: 'رسالة في الطريق إلى {email}. افتح الرابط فيها ثم سجّل الدخول.',
    terms: 'أوافق على الشروط ({terms}).',
    user: 'اسم المستخدم',
    wrongUser: 'اسم المستخدم أو كلمة المرور غير صحيح.',
    notAdded: 'تعذّرت إضافة هذا الحساب.',
    adding: 'سيُضاف الحساب الذي تسجّل الدخول إليه هناك إلى الحساب {email} في {app}. إن لم يكن حسابك فأغلق هذه الصفحة.',
    goOn: 'متابعة',
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
