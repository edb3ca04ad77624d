/** React hooks over a replica: results that follow the data, and edits in a draft. */

export { type DraftedForm, type OvertakenColumn, useDraft } from './draft.ts';
export { type FileOptions, type ShownFile, useFile, useWaitingFiles } from './files.ts';
export { type Shown, useLive } from './live.ts';
export { type RowsOptions, type ShownRow, useRow, useRows } from './rows.ts';
export { useConflicts, useHoldings, useInvocations, useOutbox, useRejections, useSyncState } from './sync.ts';
