import { errorStatus, jsonLines, limits, problemJson, protocolVersion } from '@koinon/core';

const uuid = { type: 'string', format: 'uuid' } as const;
const cursor = { type: 'string', description: 'Sealed by the server; kept, and never looked into.' } as const;
const schemaVersion = { type: 'integer', minimum: 1, description: 'The version of the schema the app has.' } as const;
const position = { type: 'integer', minimum: 0 } as const;
const columns = {
  type: 'object',
  additionalProperties: true,
  description: 'Values by column, as they travel.',
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
      own: { type: 'array', maxItems: limits.own, items: uuid },
      replica: uuid,
      schemaVersion,
    },
  },
  PullHeader: {
    type: 'object',
    description: 'The first line of the answer; `rows` lines follow, each a PulledRow.',
    required: ['kind', 'from', 'to', 'newest', 'cursor', 'rows', 'more', 'last', 'covers', 'time'],
    properties: {
      kind: { enum: ['snapshot', 'changes'] },
      from: { type: ['integer', 'null'] },
      to: position,
      newest: position,
      left: { type: 'object', additionalProperties: { type: 'integer' } },
      cursor,
      rows: { type: 'integer', minimum: 0 },
      more: { type: 'boolean' },
      last: { type: 'boolean' },
      covers: { type: 'array', items: uuid },
      time: { type: 'string', format: 'date-time' },
    },
  },
  PulledRow: {
    type: 'object',
    required: ['kind', 'table', 'id', 'position'],
    properties: { kind: { enum: ['insert', 'update', 'delete'] }, ...row, position, columns },
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
            editedAt: { type: 'string', format: 'date-time' },
            own: { type: 'array', maxItems: limits.own, items: uuid },
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
            outcome: { enum: ['applied', 'stale', 'waits', 'rejected', 'received', 'incomplete'] },
            position,
            rows: { type: 'array', items: { type: 'object', properties: row } },
            for: uuid,
            problems: { type: 'array', items: { $ref: '#/components/schemas/Problem' } },
          },
        },
      },
      time: { type: 'string', format: 'date-time' },
    },
  },
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

/** The protocol as an OpenAPI 3.1 document; the server gives it at `/v1/openapi.json`. */
export const openApi = {
  openapi: '3.1.0',
  info: { title: 'Koinon', version: `${protocolVersion}`, description: 'What docs/protocol.md tells in words.' },
  paths: {
    [`/v${protocolVersion}/about`]: {
      get: {
        summary: 'Who answers',
        responses: answer('The server, its feed and tables.', 'application/json', 'About'),
      },
    },
    [`/v${protocolVersion}/pull`]: {
      post: {
        summary: 'What changed since a cursor, or everything',
        requestBody: body('PullRequest'),
        responses: answer('A header line, then a line per row.', jsonLines, 'PullHeader'),
      },
    },
    [`/v${protocolVersion}/push`]: {
      post: {
        summary: 'Upload transactions; each is applied once, however often it arrives',
        requestBody: body('PushRequest'),
        responses: answer('One outcome per transaction, in order.', 'application/json', 'PushResponse'),
      },
    },
    [`/v${protocolVersion}/openapi.json`]: {
      get: {
        summary: 'This document',
        responses: { '200': { description: 'OpenAPI 3.1.', content: { 'application/json': {} } } },
      },
    },
  },
  components: { schemas },
} as const;
