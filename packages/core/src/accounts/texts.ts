/** The mails about accounts as they come, by language. */
import type { AccountMail, MailText } from './kinds.js';

type Texts = Record<AccountMail, MailText>;

const en: Texts = {
  'confirm-address': {
    subject: 'Confirm your address for {app}',
    text: 'Hello {name|there},\n\nconfirm that this address is yours, within {hours} hours:\n{link}\n\nThe address works once. If you did not sign up for {app}, ignore this mail.\n',
  },
  'address-taken': {
    subject: 'You have an account at {app} already',
    text: 'Hello {name|there},\n\nsomebody, perhaps you, has just signed up to {app} with this address. There is an account for it already: sign in with it, or set a new password if you have forgotten it.\n\nIf this was not you, ignore this mail; nothing has changed.\n',
  },
  'new-password': {
    subject: 'A new password for {app}',
    text: 'A new password was requested for {app}, for the account with this mail address.\n\nSet it here, within {hours} hours:\n{link}\n\nThe address works once. If this was not you, ignore this mail: the password stays the same.\n',
  },
  'change-address': {
    subject: 'Confirm your new address for {app}',
    text: 'Hello {name|there},\n\nyour account at {app} is to use this mail address. Confirm it within {hours} hours:\n{link}\n\nUntil then the old address stays. If this was not you, ignore this mail.\n',
  },
  'address-changed': {
    subject: 'Your address for {app} has changed',
    text: 'Hello {name|there},\n\nyour account at {app} now uses the address {newEmail}. If this was not you, contact the team of {app} at once.\n',
  },
  invitation: {
    subject: 'You are invited to {app}',
    text: 'Hello {name|there},\n\nan account at {app} is ready for you. Choose a password within {hours} hours:\n{link}\n\nThe address works once.\n',
  },
  'sign-in-code': {
    subject: '{code} is your code for {app}',
    text: 'Your code for {app}: {code}\n\nIt is valid for {minutes} minutes and works once. If you did not ask for it, ignore this mail; nobody can sign in without the code.\n',
  },
  'sign-in-link': {
    subject: 'Sign in to {app}',
    text: 'Open this address on the device on which you want to sign in to {app}, within {minutes} minutes:\n{link}\n\nIt works once. If you did not ask for it, ignore this mail.\n',
  },
  'new-sign-in': {
    subject: 'A new sign-in to {app}',
    text: 'Hello {name|there},\n\nsomebody signed in to your account at {app} from a place that it was not used from before: {client}, {at}.\n\nIf this was you, all is well. If not, set a new password now; that ends every session.\n',
  },
  'account-deleted': {
    subject: 'Your account at {app} is deleted',
    text: 'Hello {name|there},\n\nyour account at {app} and what belonged to it alone are deleted.\n',
  },
};

const nb: Texts = {
  'confirm-address': {
    subject: 'Bekreft adressen din for {app}',
    text: 'Hei {name|der},\n\nbekreft at denne adressen er din, innen {hours} timer:\n{link}\n\nLenken virker én gang. Har du ikke registrert deg hos {app}, kan du se bort fra denne e-posten.\n',
  },
  'address-taken': {
    subject: 'Du har alt en konto hos {app}',
    text: 'Hei {name|der},\n\nnoen, kanskje du, har nettopp registrert seg hos {app} med denne adressen. Det finnes alt en konto for den: logg inn på den, eller velg et nytt passord hvis du har glemt det.\n\nVar det ikke deg, kan du se bort fra denne e-posten; ingenting er endret.\n',
  },
  'new-password': {
    subject: 'Nytt passord for {app}',
    text: 'Det er bedt om et nytt passord for {app}, for kontoen med denne adressen.\n\nVelg det her innen {hours} timer:\n{link}\n\nLenken virker én gang. Var det ikke deg, kan du se bort fra denne e-posten: passordet forblir det samme.\n',
  },
  'change-address': {
    subject: 'Bekreft den nye adressen din for {app}',
    text: 'Hei {name|der},\n\nkontoen din hos {app} skal bruke denne adressen. Bekreft den innen {hours} timer:\n{link}\n\nInntil da gjelder den gamle. Var det ikke deg, kan du se bort fra denne e-posten.\n',
  },
  'address-changed': {
    subject: 'Adressen din for {app} er endret',
    text: 'Hei {name|der},\n\nkontoen din hos {app} bruker nå adressen {newEmail}. Var det ikke deg, ta straks kontakt med dem som driver {app}.\n',
  },
  invitation: {
    subject: 'Du er invitert til {app}',
    text: 'Hei {name|der},\n\nen konto hos {app} er klar til deg. Velg et passord innen {hours} timer:\n{link}\n\nLenken virker én gang.\n',
  },
  'sign-in-code': {
    subject: '{code} er koden din for {app}',
    text: 'Koden din for {app}: {code}\n\nDen gjelder i {minutes} minutter og virker én gang. Har du ikke bedt om den, kan du se bort fra denne e-posten.\n',
  },
  'sign-in-link': {
    subject: 'Logg inn på {app}',
    text: 'Åpne denne lenken på enheten du vil logge inn på {app} med, innen {minutes} minutter:\n{link}\n\nDen virker én gang. Har du ikke bedt om den, kan du se bort fra denne e-posten.\n',
  },
  'new-sign-in': {
    subject: 'Ny innlogging på {app}',
    text: 'Hei {name|der},\n\nnoen logget inn på kontoen din hos {app} fra et sted den ikke er brukt fra før: {client}, {at}.\n\nVar det deg, er alt i orden. Hvis ikke, velg et nytt passord nå; det avslutter alle økter.\n',
  },
  'account-deleted': {
    subject: 'Kontoen din hos {app} er slettet',
    text: 'Hei {name|der},\n\nkontoen din hos {app}, og det som bare hørte til den, er slettet.\n',
  },
};

const de: Texts = {
  'confirm-address': {
    subject: 'Bestätige deine Adresse für {app}',
    text: 'Hallo {name|},\n\nbestätige innerhalb von {hours} Stunden, dass dies deine Adresse ist:\n{link}\n\nDer Link gilt einmal. Wenn du dich nicht bei {app} registriert hast, ignoriere diese Mail.\n',
  },
  'address-taken': {
    subject: 'Du hast schon ein Konto bei {app}',
    text: 'Hallo {name|},\n\njemand, vielleicht du, hat sich gerade mit dieser Adresse bei {app} registriert. Dafür gibt es schon ein Konto: Melde dich damit an, oder wähle ein neues Passwort, falls du es vergessen hast.\n\nWenn du das nicht warst, ignoriere diese Mail; nichts hat sich geändert.\n',
  },
  'new-password': {
    subject: 'Ein neues Passwort für {app}',
    text: 'Für das Konto mit dieser Adresse bei {app} wurde ein neues Passwort angefordert.\n\nWähle es hier innerhalb von {hours} Stunden:\n{link}\n\nDer Link gilt einmal. Wenn du das nicht warst, ignoriere diese Mail: Das Passwort bleibt, wie es ist.\n',
  },
  'change-address': {
    subject: 'Bestätige deine neue Adresse für {app}',
    text: 'Hallo {name|},\n\ndein Konto bei {app} soll diese Adresse verwenden. Bestätige sie innerhalb von {hours} Stunden:\n{link}\n\nBis dahin gilt die alte. Wenn du das nicht warst, ignoriere diese Mail.\n',
  },
  'address-changed': {
    subject: 'Deine Adresse für {app} wurde geändert',
    text: 'Hallo {name|},\n\ndein Konto bei {app} verwendet jetzt die Adresse {newEmail}. Wenn du das nicht warst, wende dich sofort an das Team von {app}.\n',
  },
  invitation: {
    subject: 'Einladung zu {app}',
    text: 'Hallo {name|},\n\nein Konto bei {app} ist für dich bereit. Wähle innerhalb von {hours} Stunden ein Passwort:\n{link}\n\nDer Link gilt einmal.\n',
  },
  'sign-in-code': {
    subject: '{code} ist dein Code für {app}',
    text: 'Dein Code für {app}: {code}\n\nEr gilt {minutes} Minuten und einmal. Wenn du ihn nicht angefordert hast, ignoriere diese Mail.\n',
  },
  'sign-in-link': {
    subject: 'Anmelden bei {app}',
    text: 'Öffne diesen Link innerhalb von {minutes} Minuten auf dem Gerät, auf dem du dich bei {app} anmelden willst:\n{link}\n\nEr gilt einmal. Wenn du ihn nicht angefordert hast, ignoriere diese Mail.\n',
  },
  'new-sign-in': {
    subject: 'Neue Anmeldung bei {app}',
    text: 'Hallo {name|},\n\njemand hat sich von einem bisher unbekannten Ort aus bei deinem Konto bei {app} angemeldet: {client}, {at}.\n\nWarst du das, ist alles gut. Wenn nicht, wähle jetzt ein neues Passwort; das beendet alle Sitzungen.\n',
  },
  'account-deleted': {
    subject: 'Dein Konto bei {app} ist gelöscht',
    text: 'Hallo {name|},\n\ndein Konto bei {app} und alles, was nur dazu gehörte, ist gelöscht.\n',
  },
};

const ja: Texts = {
  'confirm-address': {
    subject: '{app} のメールアドレスの確認',
    text: '{name|お客} 様\n\nこのアドレスがご自身のものであることを、{hours} 時間以内に確認してください。\n{link}\n\nリンクは一度だけ有効です。{app} に登録した覚えがない場合は、このメールを無視してください。\n',
  },
  'address-taken': {
    subject: '{app} のアカウントは既にあります',
    text: '{name|お客} 様\n\nこのアドレスで {app} への登録が行われましたが、アカウントは既にあります。そのアカウントでサインインするか、パスワードをお忘れの場合は新しく設定してください。\n\n心当たりがない場合は、このメールを無視してください。何も変更されていません。\n',
  },
  'new-password': {
    subject: '{app} の新しいパスワード',
    text: 'このメールアドレスの {app} アカウントについて、新しいパスワードの設定が求められました。\n\n{hours} 時間以内にこちらで設定してください。\n{link}\n\nリンクは一度だけ有効です。心当たりがない場合は、このメールを無視してください。パスワードは変わりません。\n',
  },
  'change-address': {
    subject: '{app} の新しいアドレスの確認',
    text: '{name|お客} 様\n\n{app} のアカウントでこのアドレスを使うには、{hours} 時間以内に確認してください。\n{link}\n\nそれまでは以前のアドレスが有効です。心当たりがない場合は、このメールを無視してください。\n',
  },
  'address-changed': {
    subject: '{app} のアドレスが変更されました',
    text: '{name|お客} 様\n\n{app} のアカウントのアドレスは {newEmail} になりました。心当たりがない場合は、すぐに {app} のチームへご連絡ください。\n',
  },
  invitation: {
    subject: '{app} への招待',
    text: '{name|お客} 様\n\n{app} のアカウントが用意されました。{hours} 時間以内にパスワードを設定してください。\n{link}\n\nリンクは一度だけ有効です。\n',
  },
  'sign-in-code': {
    subject: '{app} のコード: {code}',
    text: '{app} のコード: {code}\n\n{minutes} 分間、一度だけ有効です。心当たりがない場合は、このメールを無視してください。\n',
  },
  'sign-in-link': {
    subject: '{app} にサインイン',
    text: 'サインインする端末で、{minutes} 分以内に次のリンクを開いてください。\n{link}\n\n一度だけ有効です。心当たりがない場合は、このメールを無視してください。\n',
  },
  'new-sign-in': {
    subject: '{app} への新しいサインイン',
    text: '{name|お客} 様\n\nこれまで使われたことのない場所から {app} のアカウントにサインインがありました: {client}、{at}。\n\nご本人であれば問題ありません。そうでなければ、すぐに新しいパスワードを設定してください。すべてのセッションが終了します。\n',
  },
  'account-deleted': {
    subject: '{app} のアカウントは削除されました',
    text: '{name|お客} 様\n\n{app} のアカウントと、それだけに属するデータは削除されました。\n',
  },
};

const ar: Texts = {
  'confirm-address': {
    subject: 'تأكيد عنوانك لدى {app}',
    text: 'مرحبًا {name|}،\n\nأكّد خلال {hours} ساعة أن هذا العنوان لك:\n{link}\n\nالرابط صالح مرة واحدة. إن لم تسجّل في {app} فتجاهل هذه الرسالة.\n',
  },
  'address-taken': {
    subject: 'لديك حساب لدى {app} بالفعل',
    text: 'مرحبًا {name|}،\n\nسجّل أحدهم، وربما أنت، في {app} بهذا العنوان. يوجد له حساب بالفعل: سجّل الدخول إليه، أو عيّن كلمة مرور جديدة إن نسيتها.\n\nإن لم تكن أنت فتجاهل هذه الرسالة، فلم يتغيّر شيء.\n',
  },
  'new-password': {
    subject: 'كلمة مرور جديدة لحسابك لدى {app}',
    text: 'طُلبت كلمة مرور جديدة لحساب {app} المرتبط بهذا العنوان.\n\nعيّنها هنا خلال {hours} ساعة:\n{link}\n\nالرابط صالح مرة واحدة. إن لم تطلبها فتجاهل هذه الرسالة، وتبقى كلمة المرور كما هي.\n',
  },
  'change-address': {
    subject: 'تأكيد عنوانك الجديد لدى {app}',
    text: 'مرحبًا {name|}،\n\nسيستخدم حسابك لدى {app} هذا العنوان. أكّده خلال {hours} ساعة:\n{link}\n\nيبقى العنوان القديم حتى ذلك الحين. إن لم تطلب ذلك فتجاهل هذه الرسالة.\n',
  },
  'address-changed': {
    subject: 'تغيّر عنوانك لدى {app}',
    text: 'مرحبًا {name|}،\n\nيستخدم حسابك لدى {app} الآن العنوان {newEmail}. إن لم تكن أنت من غيّره فاتصل فورًا بفريق {app}.\n',
  },
  invitation: {
    subject: 'دعوة إلى {app}',
    text: 'مرحبًا {name|}،\n\nحسابك لدى {app} جاهز. اختر كلمة مرور خلال {hours} ساعة:\n{link}\n\nالرابط صالح مرة واحدة.\n',
  },
  'sign-in-code': {
    subject: '{code} رمزك لدى {app}',
    text: 'رمزك لدى {app}: {code}\n\nصالح لمدة {minutes} دقيقة ولمرة واحدة. إن لم تطلبه فتجاهل هذه الرسالة.\n',
  },
  'sign-in-link': {
    subject: 'تسجيل الدخول إلى {app}',
    text: 'افتح هذا الرابط خلال {minutes} دقيقة على الجهاز الذي تريد تسجيل الدخول منه إلى {app}:\n{link}\n\nصالح مرة واحدة. إن لم تطلبه فتجاهل هذه الرسالة.\n',
  },
  'new-sign-in': {
    subject: 'تسجيل دخول جديد إلى {app}',
    text: 'مرحبًا {name|}،\n\nسجّل أحدهم الدخول إلى حسابك لدى {app} من مكان لم يُستخدم منه من قبل: {client}، {at}.\n\nإن كنت أنت فلا بأس. وإلا فعيّن كلمة مرور جديدة الآن، فذلك ينهي كل الجلسات.\n',
  },
  'account-deleted': {
    subject: 'حُذف حسابك لدى {app}',
    text: 'مرحبًا {name|}،\n\nحُذف حسابك لدى {app} وما كان له وحده.\n',
  },
};

export const TEXTS: Record<string, Texts> = { en, nb, de, ja, ar };
