/** “Try as” for a file: the same trial as for a record. */
import { operations } from '@orchard/contract';
import type { RecordAction } from '@orchard/core';
import { useChange } from '../api.js';
import { TryRule } from '../data/tryRule.js';
import { useEnvironment } from '../environment.js';

/** @param rule in place of the one that holds; `file` fixes the file */
export function TryFolderRule({ file, action, rule }: { file?: string; action?: RecordAction; rule?: string }) {
  const { params } = useEnvironment();
  const trial = useChange(operations.managedFiles.tryRule, []);
  return (
    <TryRule
      of="the file"
      example='path, or {"type":"image/png"}'
      trial={trial}
      onTry={({ record, action: tried, user, rule: text }) =>
        trial.mutate({ params, body: { action: tried as RecordAction, user, file: record as never, ...(text ? { rule: text } : {}) } })
      }
      {...(file ? { record: file } : {})}
      {...(action ? { action } : {})}
      {...(rule ? { rule } : {})}
    />
  );
}
