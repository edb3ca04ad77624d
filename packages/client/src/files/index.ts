export { fileAt, folderContents } from '#file-folder';
export { type ContentNote, type ContentSink, type Contents, memoryContents } from './contents.ts';
export {
  type FileSource,
  type FileState,
  Files,
  type FilesOptions,
  type FileUrl,
  openFiles,
  type SaveOptions,
  type WaitingFile,
} from './files.ts';
export { originContents } from './origin.ts';
