/**
 * What the API says of the data and of networks, without the machinery that works on them: a command or an app that
 * only speaks the API starts without reading a parser.
 */
export * from './access.js';
export { USER_FIELD_TYPES } from './accounts/userFieldTypes.js';
export { ACCOUNT_MAILS, type AccountMail } from './accounts/kinds.js';
export { readMailAddress } from './accounts/mailAddress.js';
export * from './actor.js';
export * from './conditions.js';
export * from './fieldTypes.js';
export * from './identifiers.js';
export * from './json.js';
export * from './objectiveWords.js';
export * from './logLevels.js';
export * from './messages/answers.js';
export { SETUP_TEMPLATES, type SetupTemplate } from './setup/templates.js';
export { countsOf, differenceMarkdown, differenceText, type JudgedChange, partName, type SetupDifference } from './setup/words.js';
export { STARTER_ORIGIN, STARTERS, type Starter } from './starters.js';
export * from './reports/document.js';
export * from './reports/digestTimes.js';
export { BUILT_IN, EVENT_PROBLEMS, type EventProblem, PROPERTY_TYPES, type PropertyType } from './insight/words.js';
export { CALENDAR_STEPS, FUNNEL_ORDERS } from './insight/words.js';
