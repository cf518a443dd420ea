/** What is to be restored, and where. */
export type RestoreWish =
  | { what: 'environment'; moment: string | null; replace: boolean; into: string | null }
  | { what: 'records'; moment: string | null; collection: string; filter: string | null; ids: string[]; removeOthers: boolean };
