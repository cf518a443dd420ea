/** Accounts of users: who may have one, how people get in, and the mails about it. */
import { operations } from '@orchard/contract';
import type { Command } from 'commander';
import { addCall, addList, addRemoval } from '../declared.js';
import { moment, printItem, printList } from '../output.js';

export function addEntryCommands(program: Command): void {
  const own = operations.accounts;
  program.command('sign-up').description('who may have an account, and how people get in');
  addCall(program, own.rules);
  addCall(program, own.changeRules);
  addCall(program, own.invite);
  addList(program, own.sessions, [
    'id',
    'client',
    ['startedAt', ({ startedAt }) => moment(startedAt)],
    ['renewedAt', ({ renewedAt }) => moment(renewedAt)],
    ['expiresAt', ({ expiresAt }) => moment(expiresAt)],
  ]);
  addRemoval(program, own.endSession, { what: ({ session }) => `Ending the session ${session}`, done: () => 'Ended.' });

  program.command('sign-in-way').description('providers outside at which people sign in');
  addList(program, own.ways, ['name', 'title', 'issuer', 'clientId', 'hasSecret', 'clients', 'redirectAddress']);
  addCall(program, own.putWay);
  addRemoval(program, own.removeWay, { what: ({ way }) => `Taking the way ${way} away` });
  addCall(program, own.checkWay, {
    print: ({ ok, steps }, options) => {
      if (options.json) return printItem({ ok, steps }, options);
      printList(steps, ['what', ['ok', ({ ok: passed }) => (passed ? 'ok' : 'failed')], 'text'], options);
    },
  });

  program.command('user-field').description('fields of users that the team has defined');
  addList(program, own.fields, ['name', 'type', 'required', 'seenBy', 'changedBy', 'description']);
  addCall(program, own.defineField);
  addRemoval(program, own.removeField, { what: ({ field }) => `Taking the definition of ${field} back` });

  program.command('account-mail').description('the mails about accounts');
  addList(program, own.mails, [
    'mail',
    ['ours', ({ ours }) => Object.keys(ours).join(' ')],
    ['own', ({ own: texts }) => Object.keys(texts).join(' ')],
    ['variables', ({ variables }) => variables.map((name) => `{${name}}`).join(' ')],
  ]);
  addCall(program, own.writeMail);
  addRemoval(program, own.resetMail, { what: ({ mail, locale }) => `Taking back the text of ${mail} in ${locale}` });
  addCall(program, own.previewMail);
  addCall(program, own.testMail);
  addList(program, own.outbox, [['at', ({ at }) => moment(at)], 'mail', 'to', 'subject']);
}
