export { fileAt, folderContents } from '#file-folder';
export { type ContentNote, type ContentSink, type Contents, type KeptContent, memoryContents } from './contents.ts';
export { type BytesToFiles, bytesToFiles } from './convert.ts';
export type { CopiedFiles, CopyOptions } from './copies.ts';
export {
  type Ahead,
  type FileState,
  Files,
  type FilesOptions,
  type FileUrl,
  openFiles,
  type SaveOptions,
} from './files.ts';
export { originContents } from './origin.ts';
export type { FileSource } from './source.ts';
export type { WaitingFile } from './uploads.ts';
