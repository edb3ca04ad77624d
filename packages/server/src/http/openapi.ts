import { errorStatus, protocolVersion } from '@koinon/core';
import {
  about,
  anyQuery,
  appliedRequest,
  appliedResponse,
  columns,
  conditions,
  errorCode,
  eventStream,
  feedQuery,
  fileAsked,
  fileStatesRequest,
  fileStatesResponse,
  filesPath,
  joinRequest,
  jsonLines,
  liveMessage,
  livePush,
  parameters,
  problemDocument,
  problemJson,
  pulledRow,
  pullHeader,
  pullRequest,
  pushRequest,
  pushResponse,
  queryRequest,
  queryResponse,
  restoreRequest,
  rowBlock,
  timestamp,
  trashQuery,
  trashResponse,
  uploadsPath,
  valuesOf,
  waitRequest,
  waitResponse,
} from '@koinon/core/internal';
import { type ConversionConfig, toJsonSchema, toJsonSchemaDefs } from '@valibot/to-json-schema';

const messages = {
  About: about,
  PullRequest: pullRequest,
  PullHeader: pullHeader,
  PulledRow: pulledRow,
  RowBlock: rowBlock,
  AppliedRequest: appliedRequest,
  AppliedResponse: appliedResponse,
  PushRequest: pushRequest,
  PushResponse: pushResponse,
  QueryRequest: queryRequest,
  QueryResponse: queryResponse,
  TrashResponse: trashResponse,
  RestoreRequest: restoreRequest,
  FileStatesRequest: fileStatesRequest,
  FileStatesResponse: fileStatesResponse,
  WaitRequest: waitRequest,
  WaitResponse: waitResponse,
  JoinRequest: joinRequest,
  LivePush: livePush,
  LiveMessage: liveMessage,
  Problem: problemDocument,
};

const descriptions: Readonly<Record<string, Description>> = {
  PullHeader: {
    description:
      'The first line of the answer; `rows` rows follow, each line a PulledRow or, where asked for, a RowBlock.',
  },
  RowBlock: { description: 'Rows that are new to their reader: the same as that many PulledRows of kind `insert`.' },
  Problem: { description: 'A problem document (RFC 9457).' },
};

/** The parts of messages that are checked by a function, which has no form in JSON Schema. */
const checkedParts = new Map<unknown, object>([
  [timestamp, { type: 'string', format: 'date-time' }],
  [columns, { type: 'object', description: 'Values by column, as they travel.' }],
  [errorCode, { enum: Object.keys(errorStatus) }],
  [anyQuery, { type: 'object', required: ['from'], properties: { from: { type: 'string' } } }],
  [conditions, { type: 'object', additionalProperties: { type: 'object' } }],
  [parameters, { type: 'object', additionalProperties: { type: ['string', 'number', 'array'] } }],
]);

const conversion = {
  target: 'draft-2020-12',
  typeMode: 'output',
  // Checks that JSON Schema cannot say are left to the server.
  errorMode: 'ignore',
  overrideRef: ({ referenceId }) => `#/components/schemas/${referenceId}`,
  overrideSchema: ({ valibotSchema }) => {
    const values = valuesOf(valibotSchema);
    return values ? { type: 'object', additionalProperties: part(values) } : checkedParts.get(valibotSchema);
  },
} as const satisfies ConversionConfig;

/** A JSON Schema, or a part of one. */
type Description = Readonly<Record<string, unknown>>;

function part(schema: Parameters<typeof toJsonSchema>[0]): Description {
  const { $schema: _dialect, ...converted } = toJsonSchema(schema, conversion);
  return converted;
}

const converted: Readonly<Record<string, object>> = toJsonSchemaDefs(messages, conversion);
const schemas = Object.fromEntries(
  Object.entries(converted).map(([name, schema]) => [name, { ...descriptions[name], ...schema }]),
) as Readonly<Record<keyof typeof messages, Description>>;

const reference = (name: keyof typeof messages) => ({ $ref: `#/components/schemas/${name}` });
const refused = {
  description: 'Refused, with the reason; nothing was done.',
  content: { [problemJson]: { schema: reference('Problem') } },
};
const body = (name: keyof typeof messages) => ({
  required: true,
  content: { 'application/json': { schema: reference(name) } },
});
const answer = (description: string, type: string, schema: object) => ({
  '200': { description, content: { [type]: { schema } } },
  '4XX': refused,
  '5XX': refused,
});

/** The members of a query, as parameters. */
const parametersOf = (query: typeof trashQuery | typeof feedQuery | typeof fileAsked) =>
  Object.entries(part(query).properties as Readonly<Record<string, Description>>).map(
    ([name, { description, ...schema }]) => ({ name, in: 'query', schema, description }),
  );

/** The protocol as an OpenAPI 3.1 document; the server gives it at `/v1/openapi.json`. */
export const openApi = {
  openapi: '3.1.0',
  info: {
    title: 'Koinon',
    version: `${protocolVersion}`,
    license: { name: 'MIT', identifier: 'MIT' },
    description: 'The protocol between a replica and its server: HTTP with JSON, and a WebSocket.',
  },
  paths: {
    [`/v${protocolVersion}/about`]: {
      get: {
        operationId: 'about',
        summary: 'Who answers',
        responses: answer('The server, its feed and tables.', 'application/json', reference('About')),
      },
    },
    [`/v${protocolVersion}/pull`]: {
      post: {
        operationId: 'pull',
        summary: 'What changed since a cursor, or everything',
        requestBody: body('PullRequest'),
        responses: answer('The header, then the rows.', jsonLines, {
          oneOf: [reference('PullHeader'), reference('PulledRow'), reference('RowBlock')],
        }),
      },
    },
    [`/v${protocolVersion}/push`]: {
      post: {
        operationId: 'push',
        summary: 'Upload transactions; each is applied once, however often it arrives',
        requestBody: body('PushRequest'),
        responses: answer('One outcome per transaction, in order.', 'application/json', reference('PushResponse')),
      },
    },
    [`/v${protocolVersion}/applied`]: {
      post: {
        operationId: 'appliedOrigins',
        summary:
          'Which origins of a replica were applied: asked by one that was put back to an earlier state, or copied',
        requestBody: body('AppliedRequest'),
        responses: answer('Those that were applied.', 'application/json', reference('AppliedResponse')),
      },
    },
    [`/v${protocolVersion}/wait`]: {
      post: {
        operationId: 'waitForChange',
        summary: 'Answers when there is something behind a cursor, or after a while',
        requestBody: body('WaitRequest'),
        responses: answer('Whether there is something.', 'application/json', reference('WaitResponse')),
      },
    },
    [`/v${protocolVersion}/query`]: {
      post: {
        operationId: 'query',
        summary:
          'One query of tables that the server keeps, for programs without a replica and for tables that no device holds',
        requestBody: body('QueryRequest'),
        responses: answer('The rows, or their number.', 'application/json', reference('QueryResponse')),
      },
    },
    [`/v${protocolVersion}/feed`]: {
      get: {
        operationId: 'readFeed',
        summary: 'What changed, for programs without a replica',
        parameters: parametersOf(feedQuery),
        responses: {
          '200': {
            description: 'A line, or an event, per change; of lines the last is the cursor.',
            content: {
              [jsonLines]: { schema: reference('PulledRow') },
              [eventStream]: { schema: { type: 'string' } },
            },
          },
          '4XX': refused,
        },
      },
    },
    [`/v${protocolVersion}/trash`]: {
      get: {
        operationId: 'listDeletedRows',
        summary: 'Deleted rows that can be brought back, last deleted first',
        parameters: parametersOf(trashQuery),
        responses: answer('The rows, with what they held last.', 'application/json', reference('TrashResponse')),
      },
    },
    [`/v${protocolVersion}/restore`]: {
      post: {
        operationId: 'restoreRow',
        summary: 'Brings a deleted row back as it was',
        requestBody: body('RestoreRequest'),
        responses: { '204': { description: 'It is there again.' }, '4XX': refused, '5XX': refused },
      },
    },
    [`/v${protocolVersion}${filesPath}/{id}`]: {
      get: {
        operationId: 'readFile',
        summary: 'The content of a file that a row holds, or a part of it',
        parameters: parametersOf(fileAsked).map((parameter) => ({
          ...parameter,
          in: parameter.name === 'id' ? 'path' : 'query',
          required: true,
        })),
        responses: {
          '200': { description: 'All of it.', content: { 'application/octet-stream': {} } },
          '206': { description: 'The part that `Range` asks for.', content: { 'application/octet-stream': {} } },
          '4XX': refused,
        },
      },
    },
    [`/v${protocolVersion}${filesPath}/states`]: {
      post: {
        operationId: 'askForFiles',
        summary: 'Where the contents of files are',
        requestBody: body('FileStatesRequest'),
        responses: answer('A state for each, in order.', 'application/json', reference('FileStatesResponse')),
      },
    },
    [`/v${protocolVersion}${uploadsPath}`]: {
      post: {
        operationId: 'beginUpload',
        summary: 'Begins a resumable upload of a content (tus 1.0); it goes on at the address in `Location`',
        responses: { '201': { description: 'It has begun.' }, '4XX': refused, '5XX': refused },
      },
    },
    [`/v${protocolVersion}/live`]: {
      get: {
        operationId: 'openLiveConnection',
        summary: 'Opens a WebSocket (RFC 6455) over which changes are pushed both ways',
        responses: {
          '101': {
            description: 'The connection is a WebSocket from now on. Each text message on it is one of these.',
            content: {
              'application/json': {
                schema: { oneOf: [reference('JoinRequest'), reference('LivePush'), reference('LiveMessage')] },
              },
            },
          },
          '4XX': refused,
        },
      },
    },
    [`/v${protocolVersion}/openapi.json`]: {
      get: {
        operationId: 'describe',
        summary: 'This document',
        responses: { '200': { description: 'OpenAPI 3.1.', content: { 'application/json': {} } }, '4XX': refused },
      },
    },
  },
  servers: [{ url: '/', description: 'The server that gives this document.' }],
  security: [{}, { token: [] }],
  components: { schemas, securitySchemes: { token: { type: 'http', scheme: 'bearer' } } },
} as const;
