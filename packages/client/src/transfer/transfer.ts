/** Import and export, apart from the replica itself: an app that needs neither does not carry them. */
export { type ExportOptions, exportRows } from './export.ts';
export { type ImportOptions, type ImportReport, importRows } from './import.ts';
export type { TransferFormat, TransferProgress } from './options.ts';
