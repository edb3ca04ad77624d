import { errorStatus, limits, protocolVersion } from '@koinon/core';
import { eventStream, jsonLines, problemJson } from '@koinon/core/internal';

const uuid = { type: 'string', format: 'uuid' } as const;
const cursor = { type: 'string', description: 'Sealed by the server; kept, and never looked into.' } as const;
const names = { type: 'object', additionalProperties: { type: 'array', items: { type: 'string' } } } as const;
const schemaVersion = { type: 'integer', minimum: 1, description: 'The version of the schema the app has.' } as const;
const time = { type: 'string', format: 'date-time' } as const;
const position = { type: 'integer', minimum: 0 } as const;
const columns = {
  type: 'object',
  additionalProperties: true,
  description: 'Values by column, as they travel.',
} as const;
const origins = { type: 'array', minItems: 1, maxItems: limits.origins, items: uuid } as const;
const receipts = {
  type: 'array',
  items: { type: 'object', required: ['origin', 'id'], properties: { origin: uuid, id: uuid } },
} as const;
const row = { table: { type: 'string' }, id: { type: 'string', minLength: 1, maxLength: 200 } } as const;

const change = {
  type: 'object',
  required: ['kind', 'table', 'id'],
  additionalProperties: false,
  properties: {
    kind: { enum: ['insert', 'update', 'delete'] },
    ...row,
    columns,
    operations: {
      type: 'object',
      description: 'Of counters `{"add": n}`, of sets `{"include": […], "exclude": […]}`; updates only.',
      additionalProperties: {
        type: 'object',
        properties: {
          add: { type: 'integer' },
          include: { type: 'array', items: { type: 'string' } },
          exclude: { type: 'array', items: { type: 'string' } },
        },
        additionalProperties: false,
      },
    },
  },
} as const;

const schemas = {
  About: {
    type: 'object',
    required: ['server', 'protocol', 'feed', 'schemaVersion', 'tables', 'position'],
    properties: {
      server: { const: 'koinon' },
      protocol: { const: protocolVersion },
      feed: uuid,
      schemaVersion,
      tables: { type: 'array', items: { type: 'string' } },
      position,
    },
  },
  PullRequest: {
    type: 'object',
    additionalProperties: false,
    properties: {
      cursor,
      limit: { type: 'integer', minimum: 1 },
      unacknowledged: { type: 'array', maxItems: limits.ownTransactions, items: uuid },
      replica: uuid,
      schemaVersion,
      tables: { type: 'array', items: { type: 'string' } },
      columns: names,
      where: { type: 'object', additionalProperties: { type: 'object' } },
      omitKnownBytes: {
        type: 'boolean',
        description: 'Whether large bytes that the replica has sent may be left out.',
      },
      rowBlocks: { type: 'boolean', description: 'Whether rows of a first download may come as RowBlocks.' },
    },
  },
  PullHeader: {
    type: 'object',
    description:
      'The first line of the answer; `rows` rows follow, each line a PulledRow or, where asked for, a RowBlock.',
    required: ['kind', 'from', 'to', 'newest', 'cursor', 'rows', 'more', 'last', 'acknowledged', 'time'],
    properties: {
      kind: { enum: ['snapshot', 'changes'] },
      from: { type: ['integer', 'null'] },
      to: position,
      newest: position,
      remaining: { type: 'object', additionalProperties: { type: 'integer' } },
      remainingBytes: { type: 'object', additionalProperties: { type: 'integer' } },
      cursor,
      rows: { type: 'integer', minimum: 0 },
      more: { type: 'boolean' },
      last: { type: 'boolean' },
      user: { type: 'string' },
      partial: { type: 'boolean' },
      schema: {
        type: 'object',
        required: ['version', 'digest'],
        properties: { version: schemaVersion, digest: { type: 'string' } },
        description: 'The server’s schema, and a digest of the types of the columns asked for that it knows.',
      },
      unsupported: { ...names, description: 'Columns asked for that this server does not know.' },
      acknowledged: { type: 'array', items: uuid },
      time: { type: 'string', format: 'date-time' },
      uploads: { type: 'integer', minimum: 0, description: 'Transactions of this replica that were applied.' },
    },
  },
  AppliedRequest: {
    type: 'object',
    required: ['replica', 'origins'],
    additionalProperties: false,
    properties: { replica: uuid, origins },
  },
  AppliedResponse: { type: 'object', required: ['receipts'], properties: { receipts } },
  PulledRow: {
    type: 'object',
    required: ['kind', 'table', 'id', 'position'],
    properties: {
      kind: { enum: ['insert', 'update', 'delete', 'leave'] },
      ...row,
      position,
      columns,
      digests: {
        type: 'object',
        additionalProperties: { type: 'string', pattern: '^[0-9a-f]{64}$' },
        description: 'SHA-256 of bytes that are left out, by column: the replica has sent them itself.',
      },
      editedAt: time,
      editedBy: { type: 'string' },
      times: { type: 'object', additionalProperties: time, description: 'Edit times by column, where they matter.' },
    },
  },
  RowBlock: {
    type: 'object',
    description: 'Rows that are new to their reader: the same as that many PulledRows of kind `insert`.',
    required: ['kind', 'table', 'position', 'columns', 'rows'],
    properties: {
      kind: { const: 'rows' },
      table: { type: 'string' },
      position,
      columns: { type: 'array', items: { type: 'string' } },
      rows: {
        type: 'array',
        items: {
          type: 'array',
          minItems: 1,
          items: {},
          description: 'The id, and then a value for each of the columns.',
        },
      },
    },
  },
  PullLine: {
    description: 'A line of the answer to a pull.',
    oneOf: ['PullHeader', 'PulledRow', 'RowBlock'].map((name) => ({ $ref: `#/components/schemas/${name}` })),
  },
  PushRequest: {
    type: 'object',
    required: ['replica', 'transactions'],
    additionalProperties: false,
    properties: {
      replica: uuid,
      base: { type: ['string', 'null'], description: 'The cursor of the last pull; null before the first.' },
      schemaVersion,
      transactions: {
        type: 'array',
        maxItems: limits.transactions,
        items: {
          type: 'object',
          required: ['id', 'editedAt', 'changes'],
          additionalProperties: false,
          properties: {
            id: uuid,
            origins,
            editedAt: { type: 'string', format: 'date-time' },
            dependsOn: { type: 'array', maxItems: limits.ownTransactions, items: uuid },
            changes: { type: 'array', minItems: 1, maxItems: limits.changes, items: change },
            part: {
              type: 'object',
              description: 'Which part of a transaction this is that is too large for one request.',
              required: ['index', 'count'],
              additionalProperties: false,
              properties: {
                index: { type: 'integer', minimum: 0 },
                count: { type: 'integer', minimum: 2, maximum: limits.parts },
              },
            },
          },
        },
      },
    },
  },
  PushResponse: {
    type: 'object',
    required: ['outcomes', 'time'],
    properties: {
      outcomes: {
        type: 'array',
        items: {
          type: 'object',
          required: ['id', 'outcome'],
          properties: {
            id: uuid,
            outcome: {
              enum: [
                'applied',
                'applied-before',
                'stale',
                'blocked',
                'deferred',
                'rejected',
                'part-stored',
                'parts-missing',
              ],
            },
            receipts,
            position,
            values: {
              type: 'array',
              description: 'What the server filled in or corrected.',
              items: { type: 'object', required: ['table', 'id', 'columns'], properties: { ...row, columns } },
            },
            rows: { type: 'array', items: { type: 'object', properties: row } },
            for: uuid,
            problems: { type: 'array', items: { $ref: '#/components/schemas/Problem' } },
          },
        },
      },
      time: { type: 'string', format: 'date-time' },
    },
  },
  TrashResponse: {
    type: 'object',
    required: ['rows'],
    properties: {
      rows: {
        type: 'array',
        items: {
          type: 'object',
          required: ['table', 'id', 'position', 'deletedAt', 'columns'],
          properties: { ...row, position, deletedAt: time, columns },
        },
      },
      next: {
        type: 'object',
        description: 'Where the next page begins; left out where there are no more.',
        required: ['table', 'id', 'position'],
        properties: { ...row, position },
      },
    },
  },
  RestoreRequest: { type: 'object', required: ['table', 'id'], additionalProperties: false, properties: row },
  WaitRequest: {
    type: 'object',
    required: ['cursor'],
    additionalProperties: false,
    properties: { cursor, replica: uuid, schemaVersion },
  },
  WaitResponse: { type: 'object', required: ['moved'], properties: { moved: { type: 'boolean' } } },
  Problem: {
    type: 'object',
    description: 'A problem document (RFC 9457), or one problem of a refused transaction.',
    required: ['code'],
    properties: {
      type: { type: 'string' },
      title: { type: 'string' },
      status: { type: 'integer' },
      code: { enum: Object.keys(errorStatus) },
      detail: { type: 'string' },
      message: { type: 'string' },
      ...row,
      column: { type: 'string' },
    },
  },
} as const;

const reference = (name: keyof typeof schemas) => ({ $ref: `#/components/schemas/${name}` });
const refused = {
  description: 'Refused, with the reason; nothing was done.',
  content: { [problemJson]: { schema: reference('Problem') } },
};
const body = (name: keyof typeof schemas) => ({
  required: true,
  content: { 'application/json': { schema: reference(name) } },
});
const answer = (description: string, type: string, name: keyof typeof schemas) => ({
  '200': { description, content: { [type]: { schema: reference(name) } } },
  '4XX': refused,
  '5XX': refused,
});

const parameter = (name: string, schema: object, description: string) => ({ name, in: 'query', schema, description });

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
        responses: answer('The server, its feed and tables.', 'application/json', 'About'),
      },
    },
    [`/v${protocolVersion}/pull`]: {
      post: {
        operationId: 'pull',
        summary: 'What changed since a cursor, or everything',
        requestBody: body('PullRequest'),
        responses: answer('The header, then the rows.', jsonLines, 'PullLine'),
      },
    },
    [`/v${protocolVersion}/push`]: {
      post: {
        operationId: 'push',
        summary: 'Upload transactions; each is applied once, however often it arrives',
        requestBody: body('PushRequest'),
        responses: answer('One outcome per transaction, in order.', 'application/json', 'PushResponse'),
      },
    },
    [`/v${protocolVersion}/applied`]: {
      post: {
        operationId: 'appliedOrigins',
        summary:
          'Which origins of a replica were applied: asked by one that was put back to an earlier state, or copied',
        requestBody: body('AppliedRequest'),
        responses: answer('Those that were applied.', 'application/json', 'AppliedResponse'),
      },
    },
    [`/v${protocolVersion}/wait`]: {
      post: {
        operationId: 'waitForChange',
        summary: 'Answers when there is something behind a cursor, or after a while',
        requestBody: body('WaitRequest'),
        responses: answer('Whether there is something.', 'application/json', 'WaitResponse'),
      },
    },
    [`/v${protocolVersion}/feed`]: {
      get: {
        operationId: 'readFeed',
        summary: 'What changed, for programs without a replica',
        parameters: [
          parameter('after', { type: 'string' }, 'A position, or the cursor of the last line; without it, everything.'),
          parameter('follow', { enum: ['true', 'false'] }, 'Goes on with what changes later, as server-sent events.'),
          parameter('table', { type: 'string' }, 'Only changes of this table.'),
          parameter('kind', { enum: ['insert', 'update', 'delete'] }, 'Only changes of this kind.'),
        ],
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
        parameters: [
          parameter('table', { type: 'string' }, 'Only rows of this table.'),
          parameter('id', { type: 'string' }, 'Only rows of this id.'),
          parameter('before', { type: 'integer', minimum: 1 }, 'The position of the last row of the page before.'),
          parameter('beforeTable', { type: 'string' }, 'Its table.'),
          parameter('beforeId', { type: 'string' }, 'Its id.'),
          parameter('limit', { type: 'integer', minimum: 1, maximum: limits.trashedRows }, 'At most this many.'),
        ],
        responses: answer('The rows, with what they held last.', 'application/json', 'TrashResponse'),
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
    [`/v${protocolVersion}/live`]: {
      get: {
        operationId: 'openLiveConnection',
        summary: 'Opens a WebSocket (RFC 6455) over which changes are pushed both ways',
        responses: { '101': { description: 'The connection is a WebSocket from now on.' }, '4XX': refused },
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
