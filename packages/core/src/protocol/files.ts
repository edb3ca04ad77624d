import * as v from 'valibot';
import { checkAnswer, listOf, type Message, nameOf, readRequest, requestOf, searchable, uuid } from './message.ts';

/** The path of the content of files, behind the version: `GET /v1/files/<id>?table=…&row=…&column=…`. */
export const filesPath = '/files';

/** The path of resumable uploads (tus 1.0), behind the version. */
export const uploadsPath = '/uploads';

/** The header of the answer to the last part of an upload: the content is stored. */
export const contentStoredHeader = 'content-stored';

/** Files that are asked about at once. */
export const mostFilesAsked = 1_000;

/** A row's column that holds the description of a file. */
const place = {
  table: nameOf('a table name'),
  row: searchable('a row id'),
  column: nameOf('a column name'),
};

/** The id of a file, and a place that holds it. */
export const fileAsked = requestOf({ id: uuid, ...place });

/** A file, by its id and by a column of a row that holds it. The right to read that is the right to read the content. */
export type FileAsked = Message<typeof fileAsked>;

/** Reads which file is asked for. @throws KoinonError `malformed-request`. */
export function readFileAsked(given: unknown): FileAsked {
  return readRequest(fileAsked, given, 'the query');
}

export const fileStatesRequest = requestOf({ files: listOf(fileAsked, mostFilesAsked) });

/** `POST /v1/files/states`: asks where the contents of files are. */
export type FileStatesRequest = Message<typeof fileStatesRequest>;

/** Reads such a request. @throws KoinonError `malformed-request`. */
export function readFileStatesRequest(body: unknown): FileStatesRequest {
  return readRequest(fileStatesRequest, body);
}

export const fileStatesResponse = v.object({
  /** In the order of the request. `unknown`: this user has no such row, or it holds another file. */
  states: v.array(v.picklist(['stored', 'awaited', 'unknown'])),
});

/** The answer to {@link FileStatesRequest}. */
export type FileStatesResponse = Message<typeof fileStatesResponse>;

/** Looks at such an answer. @throws KoinonError `server-answer`. */
export function checkFileStatesResponse(body: unknown): FileStatesResponse {
  return checkAnswer(fileStatesResponse, body, 'a question about files');
}
