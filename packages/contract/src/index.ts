import { accountOperations } from './operations/accounts.js';
import { alertOperations, incidentOperations } from './operations/alerts.js';
import { auditOperations } from './operations/audit.js';
import { appOperations, clientOperations, environmentOperations } from './operations/apps.js';
import { fileOperations, folderOperations, managedFileOperations, uploadOperations } from './operations/files.js';
import { siteOperations } from './operations/sites.js';
import { turnOperations } from './operations/turn.js';
import { broadcastOperations, managedBroadcastOperations } from './operations/broadcasts.js';
import { channelOperations } from './operations/channels.js';
import { dateNoteOperations } from './operations/dateNotes.js';
import { sheetOperations } from './operations/sheets.js';
import { deviceOperations } from './operations/devices.js';
import { setupOperations } from './operations/setups.js';
import { backupOperations } from './operations/backups.js';
import { arrivalOperations } from './operations/arrivals.js';
import { instanceOperations } from './operations/instances.js';
import { moveOperations } from './operations/moves.js';
import { eventOperations } from './operations/events.js';
import { gatewayOperations } from './operations/gateways.js';
import { identityOperations } from './operations/identity.js';
import { insightOperations } from './operations/insight.js';
import { jobOperations } from './operations/jobs.js';
import { logOperations } from './operations/log.js';
import { memberEntryOperations } from './operations/memberEntry.js';
import { memberOperations } from './operations/members.js';
import { memberWayOperations } from './operations/memberWays.js';
import { noticeOperations } from './operations/notices.js';
import { notificationOperations } from './operations/notifications.js';
import { conditionOperations, objectiveOperations } from './operations/objectives.js';
import { collectionOperations } from './operations/collections.js';
import { batchOperations, managedRecordOperations, recordOperations } from './operations/records.js';
import { digestOperations, reportOperations } from './operations/reports.js';
import { secondFactorOperations } from './operations/secondFactors.js';
import { signInWayOperations } from './operations/signInWays.js';
import { smsOperations } from './operations/sms.js';
import { telemetryOperations } from './operations/telemetry.js';
import { syncOperations } from './operations/sync.js';
import { tokenOperations } from './operations/tokens.js';
import { endpointOperations, functionOperations } from './operations/functions.js';
import { upstreamCallOperations, upstreamOperations } from './operations/upstreams.js';
import { outsideOperations } from './operations/outside.js';
import { standingOperations } from './operations/standing.js';
import { topicOperations } from './operations/topics.js';
import { userFactorOperations } from './operations/userFactors.js';
import { userRoleOperations } from './operations/userRoles.js';
import { userOperations } from './operations/users.js';
import type { AnyOperation } from './operation.js';

/** Every operation of the API, by capability. */
export const operations = {
  records: recordOperations,
  sync: syncOperations,
  batches: batchOperations,
  files: fileOperations,
  folders: folderOperations,
  uploads: uploadOperations,
  managedFiles: managedFileOperations,
  sites: siteOperations,
  broadcasts: broadcastOperations,
  turn: turnOperations,
  managedBroadcasts: managedBroadcastOperations,
  users: userOperations,
  accounts: accountOperations,
  userFactors: userFactorOperations,
  signInWays: signInWayOperations,
  userRoles: userRoleOperations,
  identity: identityOperations,
  devices: deviceOperations,
  functions: functionOperations,
  endpoints: endpointOperations,
  upstreams: upstreamOperations,
  upstreamCalls: upstreamCallOperations,
  outside: outsideOperations,
  standing: standingOperations,
  topics: topicOperations,
  gateways: gatewayOperations,
  notifications: notificationOperations,
  sms: smsOperations,
  channels: channelOperations,
  notices: noticeOperations,
  members: memberOperations,
  memberWays: memberWayOperations,
  memberEntry: memberEntryOperations,
  secondFactors: secondFactorOperations,
  tokens: tokenOperations,
  audit: auditOperations,
  apps: appOperations,
  environments: environmentOperations,
  clients: clientOperations,
  collections: collectionOperations,
  managedRecords: managedRecordOperations,
  telemetry: telemetryOperations,
  jobs: jobOperations,
  instances: instanceOperations,
  log: logOperations,
  condition: conditionOperations,
  objectives: objectiveOperations,
  alerts: alertOperations,
  incidents: incidentOperations,
  reports: reportOperations,
  digests: digestOperations,
  setups: setupOperations,
  backups: backupOperations,
  moves: moveOperations,
  arrivals: arrivalOperations,
  events: eventOperations,
  insight: insightOperations,
  dateNotes: dateNoteOperations,
  sheets: sheetOperations,
};
export const allOperations: AnyOperation[] = Object.values(operations).flatMap(
  (group) => Object.values(group) as unknown as AnyOperation[],
);

export * from './audit.js';
export { type ActorDocument, actorWords, email as mailAddress, ENVIRONMENT as ENVIRONMENT_PATH } from './common.js';
export {
  cellWords,
  changeOf,
  durationWords,
  figureWords,
  findingWords,
  measureWords,
  RULE_PRESETS,
  type RulePreset,
  subjectWords,
  valueWords,
} from '@orchard/core/words';
export * from './commandLine.js';
export * from './curl.js';
export * from './events.js';
export * from './expectation.js';
export * from './address.js';
export * from './httpClient.js';
export * from './libraryCall.js';
export * from './openapi.js';
export * from './operation.js';
export { ALERT_CAUSES, alertRule as alertRuleSchema } from './operations/alerts.js';
export type * from './operations/alerts.js';
export { REPORT_PERIODS, REPORT_SOURCES } from './operations/reports.js';
export type * from './operations/reports.js';
export type * from './operations/events.js';
export type * from './operations/setups.js';
export type * from './operations/backups.js';
export type * from './operations/arrivals.js';
export type * from './operations/instances.js';
export type * from './operations/moves.js';
export * from './backupArchive.js';
export * from './setupFile.js';
export { countsOf, differenceMarkdown, differenceText, partName, SETUP_TEMPLATES } from '@orchard/core/words';
export type * from './operations/dateNotes.js';
export type * from './operations/sheets.js';
export { MOST_ON_SHEET } from './operations/sheets.js';
export type * from './operations/insight.js';
export type * from './operations/log.js';
export type * from './operations/apps.js';
export { INSTALLATION_CHECKS, objective as objectiveSchema } from './operations/objectives.js';
export type * from './operations/objectives.js';
export { AUDIT_FAULTS } from './operations/audit.js';
export type * from './operations/audit.js';
export { CLIENT_KINDS, MODES } from './operations/apps.js';
export type * from './operations/channels.js';
export type * from './operations/collections.js';
export { IMPORT_FORMATS } from './operations/collections.js';
export type * from './operations/fileDefinition.js';
export { FITS, MOST_PIXELS_A_SIDE, RENDITION_FORMATS } from './operations/fileDefinition.js';
export type * from './operations/sites.js';
export type * from './operations/broadcasts.js';
export type * from './operations/turn.js';
export { BROADCAST_STATES } from './operations/broadcasts.js';
export type * from './operations/devices.js';
export { DEVICE_SECRET, PERMISSIONS, PLATFORMS, STAGES } from './operations/devices.js';
export type * from './operations/gateways.js';
export { GATEWAY_KINDS, gatewayMapping, newGateway, newInstallationGateway } from './operations/gateways.js';
export type * from './operations/jobs.js';
export { JOB_STATES } from './operations/jobs.js';
export type * from './operations/memberEntry.js';
export type * from './operations/members.js';
export type * from './operations/memberWays.js';
export { MEMBER_WAYS, MESSAGE_STATES } from './operations/memberWays.js';
export type * from './operations/newNotification.js';
export { WAYS } from './operations/newNotification.js';
export type * from './operations/notifications.js';
export { DELIVERY_STATES, NOTIFICATION_STATES } from './operations/notifications.js';
export type * from './operations/notices.js';
export type * from './operations/ownAccount.js';
export type * from './operations/records.js';
export type * from './operations/secondFactors.js';
export type * from './operations/sms.js';
export * from './operations/telemetry.js';
export type * from './operations/tokens.js';
export { TOKEN_DAYS } from './operations/tokens.js';
export * from './functionTypes.js';
export {
  ENDPOINT_CALLERS,
  ENDPOINT_METHODS,
  FUNCTION_KINDS,
  HOOK_ACTIONS,
  HOOK_MOMENTS,
  HOOK_SUBJECTS,
  MISSED_RUNS,
  RUN_OUTCOMES,
} from './operations/functionDefinition.js';
export type * from './operations/functionDefinition.js';
export * from './operations/functions.js';
export * from './operations/upstreams.js';
export * from './operations/outside.js';
export * from './operations/standing.js';
export type * from './operations/sync.js';
export { SYNC_LIMIT } from './operations/sync.js';
export type * from './operations/topics.js';
export { SIGN_UP_RULES } from './operations/accounts.js';
export type * from './operations/accounts.js';
export type * from './operations/identity.js';
export { WAY_KINDS } from './operations/signInWays.js';
export type * from './operations/signInWays.js';
export type * from './operations/userRoles.js';
export type * from './operations/users.js';
export * from './problems.js';
export { counted } from './counted.js';
export { functionWords } from './functionWords.js';
export { standingWords } from './standingWords.js';
