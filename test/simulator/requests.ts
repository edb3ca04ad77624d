import { promisify } from 'node:util';
import { deflate, gzip } from 'node:zlib';
import {
  bigInteger,
  boolean,
  counter,
  decimal,
  integer,
  oneOf,
  reference,
  schema,
  setOfText,
  table,
  text,
  timestamp,
} from '@koinon/core';
import { openApi, type Store, startServer } from '@koinon/server';
import WebSocket from 'ws';
import { Random } from './random.ts';

// Requests by the grammar of the OpenAPI document, over HTTP and over live connections, with mistakes of every kind in them:
// conditions, parts and compressed bodies among them. Whatever comes, the server answers, with a problem document where it does not do as asked, and within a time.

/** The messages of a replica over a live connection, in the form of the document's schemas. */
const spoken: Readonly<Record<'join' | 'push', Shape>> = {
  join: {
    type: 'object',
    required: ['join', 'cursor', 'replica', 'token'],
    properties: {
      join: { type: 'integer' },
      cursor: { type: 'string' },
      replica: { type: 'string', format: 'uuid' },
      token: { enum: ['mika'] },
      schemaVersion: { type: 'integer' },
      tables: { type: 'array', items: { type: 'string' } },
      only: {
        type: 'object',
        properties: { tables: { type: 'array', items: { type: 'string' } }, where: { type: 'object' } },
      },
    },
  },
  push: {
    type: 'object',
    required: ['push', 'request'],
    properties: { push: { type: 'integer' }, request: { $ref: '#/components/schemas/PushRequest' } },
  },
};

/** The tables that are asked about: every type of column by which rows can be told apart. */
export const asked = schema({
  site: table({
    name: text({ filterable: true }),
    keeper: text({ filterable: true }),
    open: boolean({ default: true, filterable: true }),
  }),
  hive: table({
    site: reference('site', { filterable: true }),
    queen: oneOf(['marked', 'unmarked'], { filterable: true }),
    strength: integer({ default: 0, filterable: true }),
    frames: counter(),
    traits: setOfText(),
  }),
  plant: table(
    {
      family: reference('plant', { optional: true }),
      grows: reference('site', { optional: true }),
      name: text(),
      price: decimal(6, 2, { optional: true }),
      serial: bigInteger({ optional: true }),
      seen: timestamp({ optional: true }),
    },
    { home: 'server' },
  ),
});

type Shape = Readonly<Record<string, unknown>>;
const schemas = openApi.components.schemas as Readonly<Record<string, Shape>>;
const compress = { gzip: promisify(gzip), deflate: promisify(deflate) };

const words = [
  'site',
  'hive',
  'name',
  'keeper',
  'queen',
  'strength',
  'a',
  '',
  '\0',
  '__proto__',
  'constructor',
  '\ud800',
  'é',
  'id',
];
const signs = ['=', '!=', '<', '<=', '>', '>=', 'in', 'between', 'prefix', 'contains', 'like'];
const wrong: readonly unknown[] = [
  null,
  0,
  -1,
  2 ** 60,
  1.5,
  true,
  '',
  '\0',
  [],
  {},
  [[]],
  { '': null },
  'x'.repeat(5_000),
];

/** Names of tables and columns that there are. */
const names = ['site', 'hive', 'name', 'keeper', 'open', 'queen', 'strength', 'frames', 'traits'];

const texts = ['north', 'a', '', 'é', 'n\0', '\ud800', '%', '\u{10ffff}'];

/** The columns by which rows can be asked for, with values to compare them with. */
const filterable = {
  site: [
    ['id', texts],
    ['name', texts],
    ['keeper', texts],
    ['open', [true, false, null]],
  ],
  hive: [
    ['site', texts],
    ['queen', ['marked', 'unmarked', null, 'm', '\0']],
    ['strength', [0, 1, -1, 2 ** 53 - 1, null, 2 ** 53, 0.5]],
  ],
  plant: [
    ['family', texts],
    ['name', texts],
    ['price', ['1.50', '-0.5', '9999.99', '1e3', '1.555', null, 7]],
    ['serial', ['7', '-9223372036854775808', '9223372036854775808', '1.5', null, 7]],
    ['seen', ['2026-06-01T10:00:00.000Z', '0000-01-01T00:00:00.000Z', '2026-06-01', null]],
  ],
} as const;

const users = ['mika', 'tove', 'office'] as const;

/** Makes requests of one seed. */
export class Requests {
  readonly random: Random;
  /** Cursors that the server gave, to be used again. */
  readonly cursors: string[] = [];
  /** One with which the user whose token the messages of live connections carry may join. */
  joinable = 'none';

  constructor(seed: number) {
    this.random = new Random(seed);
  }

  private one<Item>(items: readonly Item[]): Item {
    return this.random.pick(items);
  }

  /** The user of the request that is being made. */
  private user = 0;

  /** A UUID, mostly one that no other user has named. */
  uuid(): string {
    const { random } = this;
    const of = this.chance(5) ? random.below(users.length) : this.user;
    const digits = (of * 16 + random.below(8)).toString(16).padStart(12, '0');
    return `00000000-0000-4000-8000-${digits}`;
  }

  /** A condition over a table, mostly one that can be read. */
  where(table: keyof typeof filterable, depth: number): unknown {
    const { random } = this;
    if (random.below(40) === 0) return this.one(wrong);
    if (depth > 0 && random.below(3) > 0) {
      const kind = this.one(['and', 'or', 'not'] as const);
      if (kind === 'not') return { not: this.where(table, depth - 1) };
      if (random.below(80) === 0) return { [kind]: Array.from({ length: 1_500 }, () => ({ id: 'a' })) };
      return { [kind]: Array.from({ length: random.below(4) }, () => this.where(table, depth - 1)) };
    }
    const isKnown = random.below(30) > 0;
    const [column, values] = this.one<readonly [string, readonly unknown[]]>(filterable[table]);
    const value = () => this.one<unknown>(random.below(30) === 0 ? wrong : values);
    const list = () => Array.from({ length: this.one([0, 1, 3, random.below(60) === 0 ? 31_000 : 5]) }, value);
    const sign = this.one(signs);
    const operand = sign === 'in' ? list() : sign === 'between' ? [value(), value()] : value();
    return { [isKnown ? column : this.one(words)]: random.below(3) === 0 ? value() : { [sign]: operand } };
  }

  /** A query of the server, mostly one that can be read. */
  query(kind: string): unknown {
    const { random } = this;
    const from = this.one(['site', 'hive', 'plant'] as const);
    const columns = [...filterable[from].map(([name]) => name), ...(random.below(20) === 0 ? words : [])];
    const some = <Item>(make: () => Item, most: number) => Array.from({ length: random.below(most) }, make);
    const column = () => this.one(columns);
    const maybe = (part: string, make: () => unknown, of = 2) =>
      random.below(of) > 0 ? {} : { [part]: random.below(40) === 0 ? this.one(wrong) : make() };
    const join = () =>
      this.one<unknown>([
        { by: this.one(['site', 'family', 'grows', 'keeper']) },
        { from: 'hive', by: 'site', ...maybe('where', () => this.where('hive', 1)) },
        { from: 'plant', by: this.one(['family', 'grows']), ...maybe('order', column) },
        'status',
        this.one(wrong),
      ]);
    const asked = {
      from: random.below(30) === 0 ? this.one([...words, ...wrong]) : from,
      ...maybe('where', () => this.where(random.below(20) === 0 ? 'hive' : from, random.below(4))),
    };
    if (kind === 'count') return { ...asked, ...maybe('limit', () => 1, 20) };
    if (kind === 'summary')
      return {
        ...asked,
        ...maybe('by', () => some(column, 3)),
        measures: {
          all: 'count',
          x: [this.one(['min', 'max', 'sum', 'avg', 'sum']), column()],
          ...maybe('y', () => 'many', 20),
        },
      };
    return {
      ...asked,
      ...maybe('order', () => some(() => this.one([column(), [column(), this.one(['asc', 'desc', 'up'])]]), 3)),
      ...maybe('limit', () => this.one([0, 1, 50, 1e6, -1])),
      ...maybe('offset', () => this.one([0, 1, 1e9]), 4),
      ...maybe('after', () => ({ id: 'a', name: 'b' }), 6),
      ...maybe('columns', () => some(column, 4)),
      ...maybe('join', () => ({ x: join(), ...maybe('y', join) }), 3),
    };
  }

  /** Tells whether the request that is being made has mistakes outside of its conditions: the others get further. */
  private isSpoilt = false;

  private chance(of: number): boolean {
    return this.isSpoilt && this.random.below(of) === 0;
  }

  /** A value of a schema of the document, now and then with a mistake in it. */
  value(given: Shape, name: string): unknown {
    const { random } = this;
    if (this.chance(20)) return this.one(wrong);
    if (name === 'cursor' || name === 'base')
      return this.cursors.length > 0 && !this.chance(4) ? this.one(this.cursors) : 'none';
    if (name === 'where') {
      const table = this.one(['site', 'hive'] as const);
      let where = this.where(table, random.below(4));
      if (random.below(30) === 0) for (let levels = random.below(90); levels > 0; levels--) where = { not: where };
      return { [table]: where };
    }
    if (name === 'rows' || name === 'count' || name === 'summary') return this.query(name);
    if (name === 'tables entry')
      return this.one(['site', 'hive', 'site', 'hive', this.chance(4) ? this.one(words) : 'site']);
    if (name === 'table')
      return this.one(this.isSpoilt ? ['site', this.one(words), 't'.repeat(70)] : ['site', 'hive', 'hive']);
    if (name === 'id') return this.one(this.isSpoilt ? ['a', this.one(words), 'i'.repeat(250)] : ['a', 'b', 'c']);
    const type = typeof given.$ref === 'string' ? undefined : given.type;
    if (typeof given.$ref === 'string')
      return this.value(schemas[given.$ref.split('/').at(-1) as string] as Shape, name);
    if ('const' in given) return given.const;
    if (Array.isArray(given.enum)) return this.one(given.enum as unknown[]);
    const choices = given.oneOf ?? given.anyOf;
    if (Array.isArray(choices)) return this.value(this.one(choices as Shape[]), name);
    switch (Array.isArray(type) ? this.one(type as string[]) : type) {
      case 'null':
        return null;
      case 'integer':
      case 'number':
        return random.below(6) + (this.chance(3) ? -1 : 1);
      case 'boolean':
        return random.below(2) === 0;
      case 'array': {
        const least = typeof given.minItems === 'number' ? given.minItems : 0;
        return Array.from({ length: least + random.below(3) }, () =>
          this.value((given.items ?? {}) as Shape, `${name} entry`),
        );
      }
      case 'object':
        return this.object(given);
      case 'string':
        if (given.format === 'uuid') return this.uuid();
        return given.format === 'date-time' ? '2026-06-01T10:00:00.000Z' : this.one(words);
      default:
        return this.one<unknown>([this.one(words), random.below(9), null, this.one(wrong)]);
    }
  }

  private object({ properties = {}, required = [], additionalProperties }: Shape): Record<string, unknown> {
    const made: Record<string, unknown> = {};
    for (const [name, shape] of Object.entries(properties as Record<string, Shape>))
      if ((required as string[]).includes(name) ? !this.chance(25) : this.random.below(2) === 0)
        made[name] = this.value(shape, name);
    if (typeof additionalProperties === 'object' || additionalProperties === true)
      for (let n = this.random.below(4); n > 0; n--)
        Object.defineProperty(made, this.one(this.isSpoilt ? words : names), {
          value: this.value(typeof additionalProperties === 'object' ? (additionalProperties as Shape) : {}, 'member'),
          enumerable: true,
          configurable: true,
          writable: true,
        });
    if (this.chance(20)) made[this.one(words)] = this.one(wrong);
    return made;
  }

  /** The messages over one live connection, message by message. */
  messages(): readonly (string | Uint8Array)[] {
    const { random } = this;
    // The user whose token the messages carry.
    this.user = 0;
    return Array.from({ length: 1 + random.below(5) }, (_, n) => {
      this.isSpoilt = random.below(n === 0 ? 5 : 2) === 0;
      const kind = n === 0 || random.below(4) === 0 ? 'join' : 'push';
      const made = this.value(spoken[kind], 'body');
      if (kind === 'join' && !this.isSpoilt && random.below(8) > 0) (made as { cursor: string }).cursor = this.joinable;
      const json = JSON.stringify(made) ?? '';
      if (this.chance(20)) return json.slice(0, random.below(json.length + 1));
      if (this.chance(40)) return Buffer.from(json);
      return this.chance(40) ? json.padEnd(70_000) : json;
    });
  }

  /** The next request. */
  async next(): Promise<{ readonly path: string; readonly init: RequestInit; readonly about: string }> {
    const { random } = this;
    const paths = Object.entries(openApi.paths as Readonly<Record<string, Shape>>);
    const [path, methods] = this.one(
      random.below(3) === 0
        ? paths.filter(([at]) => /push|pull|query/.test(at))
        : paths.filter(([at]) => !at.endsWith('/live')),
    );
    this.isSpoilt = random.below(2) === 0;
    const [method, operation] = this.one(Object.entries(methods)) as [string, Shape];
    this.user = random.below(users.length);
    const headers: Record<string, string> = {
      authorization: `Bearer ${random.below(20) === 0 ? '' : users[this.user]}`,
    };
    if (method === 'get') {
      const query = new URLSearchParams();
      // What is followed does not end by itself.
      for (const { name, schema: shape } of (operation.parameters ?? []) as { name: string; schema: Shape }[])
        if (random.below(2) === 0 && name !== 'follow') query.append(name, String(this.value(shape, name)));
      const named = path.replace('{id}', () => encodeURIComponent(query.get('id') ?? 'none'));
      const at = random.below(60) === 0 ? `${named}%zz` : `${named}?${query}`;
      return { path: at, init: { method: this.one(['GET', 'GET', 'HEAD', 'DELETE']), headers }, about: at };
    }
    const { requestBody } = operation as { requestBody?: { content: Record<string, { schema: Shape }> } };
    const content = requestBody?.content['application/json'];
    const json = JSON.stringify(this.value(content?.schema ?? {}, 'body')) ?? '';
    const spoilt = this.chance(20) ? json.slice(0, random.below(json.length + 1)) : json;
    const encoding = this.one(['identity', 'identity', 'gzip', 'deflate', ...(this.isSpoilt ? ['br', 'x'] : [])]);
    let body: Uint8Array = Buffer.from(random.below(200) === 0 ? `${'['.repeat(random.below(100_000))}` : spoilt);
    if (random.below(400) === 0) body = Buffer.alloc(3_000_000 + random.below(30_000_000), this.one([0x20, 0x5b]));
    if (encoding === 'gzip' || encoding === 'deflate') body = await compress[encoding](body);
    if (this.chance(20)) body = body.subarray(0, random.below(body.length + 1));
    headers['content-type'] = this.chance(20) ? 'text/plain' : 'application/json';
    if (encoding !== 'identity') headers['content-encoding'] = encoding;
    return {
      path,
      init: { method: 'POST', headers, body: new Uint8Array(body) },
      about: `${path} ${encoding} ${json.slice(0, 2_000)}`,
    };
  }
}

/** The result of a run of requests. */
export interface Answered {
  readonly requests: number;
  readonly failures: readonly string[];
  /** How many answers had which status. */
  readonly statuses: ReadonlyMap<number, number>;
  /** How many messages of each type came over live connections. */
  readonly kinds: ReadonlyMap<string, number>;
  /** Milliseconds of the slowest answer, and the bytes that the process takes in the end. */
  readonly slowest: number;
  readonly memory: number;
}

/** Milliseconds an answer may take: a wait is held back for 25 seconds, and is not among them. */
const patience = 120_000;

/**
 * Sends requests to a server on a store, several at a time.
 *
 * @param told called now and then with how many have been answered.
 */
export async function answerRequests(
  store: Store,
  seed: number,
  count: number,
  told: (done: number, failures: number) => void = () => undefined,
): Promise<Answered> {
  const server = await startServer({
    store,
    port: 0,
    requestsPerMinute: 1e9,
    replicasPerUser: 30,
    authenticate: (token) => ({ id: token, claims: {} }),
    scopes: {
      site: { read: (user) => (user?.id === 'office' ? 'all' : { keeper: user?.id ?? '' }) },
      hive: { with: 'site' },
      plant: { read: 'all', withhold: (user) => (user?.id === 'tove' ? ['price'] : []) },
    },
  });
  const requests = new Requests(seed);
  const failures: string[] = [];
  const statuses = new Map<number, number>();
  const kinds = new Map<string, number>();
  const about = { authorization: 'Bearer mika', 'content-type': 'application/json' };
  const whole = await fetch(`${server.url}/v1/pull`, { method: 'POST', headers: about, body: '{}' });
  requests.joinable = (JSON.parse((await whole.text()).split('\n')[0] ?? '') as { cursor: string }).cursor;
  let slowest = 0;
  let done = 0;
  const one = async () => {
    const { path, init, about } = await requests.next();
    const began = performance.now();
    // A wait that is held back is given up: there is nothing to see in it.
    const isHeld = path.startsWith('/v1/wait');
    const answer = await fetch(`${server.url}${path}`, {
      ...init,
      signal: AbortSignal.timeout(isHeld ? 50 : patience),
    }).catch((error: Error) => error);
    if (answer instanceof Error) {
      if (!isHeld) failures.push(`${about}: ${answer.message}`);
      return;
    }
    const body = await answer.text();
    if (!isHeld) slowest = Math.max(slowest, performance.now() - began);
    statuses.set(answer.status, (statuses.get(answer.status) ?? 0) + 1);
    const isProblem = answer.headers.get('content-type')?.startsWith('application/problem+json') === true;
    if (answer.status >= 500 || (answer.status >= 400 && init.method !== 'HEAD' && !isProblem))
      failures.push(`${answer.status} to ${about}: ${body.slice(0, 500)}`);
    const cursor = /"cursor":"([^"]*)"/.exec(body)?.[1];
    if (cursor !== undefined && requests.random.below(20) === 0) {
      if (requests.cursors.length > 50) requests.cursors.shift();
      requests.cursors.push(cursor);
    }
  };
  /** Says something over a live connection, and waits until all of it is answered, or the connection is ended. */
  const converse = async () => {
    const messages = requests.messages();
    const began = performance.now();
    const socket = new WebSocket(`${server.url.replace('http', 'ws')}/v1/live`);
    const heard: string[] = [];
    // One that waits for its answers gets further; one that does not is refused, or answered in the order of what it said.
    const isHasty = requests.random.below(3) === 0;
    let said = 0;
    const next = () => {
      const message = messages[said++];
      if (message !== undefined) socket.send(message);
      else setTimeout(() => socket.close(), 20);
    };
    const ended = new Promise<string>((over) => {
      const timer = setTimeout(() => over('no answer'), patience);
      socket.on('message', (data) => {
        const text = String(data);
        heard.push(text);
        const { type, problem } = JSON.parse(text) as { type: string; problem?: { code: string; status: number } };
        if (problem !== undefined && (problem.status ?? 500) >= 500) over(`a problem of the server: ${text}`);
        kinds.set(type, (kinds.get(type) ?? 0) + 1);
        if (type === 'joined' || type === 'pushed' || type === 'pull-required') next();
      });
      socket.on('error', (error) => over(/max payload|1009/i.test(error.message) ? '' : error.message));
      socket.on('close', (code) => {
        clearTimeout(timer);
        over([1000, 1005, 1009, 4000].includes(code) ? '' : `the connection was ended with ${code}`);
      });
      socket.on('open', () => {
        if (isHasty) for (let left = messages.length; left > 0; left--) next();
        else next();
      });
    });
    const wrong = await ended;
    socket.terminate();
    slowest = Math.max(slowest, performance.now() - began);
    statuses.set(101, (statuses.get(101) ?? 0) + 1);
    if (wrong !== '')
      failures.push(`${wrong} to ${messages.map(String).join(' ').slice(0, 2_000)}: ${heard.join(' ').slice(0, 500)}`);
  };
  const lane = async () => {
    while (done < count && failures.length < 20) {
      done++;
      await (done % 8 === 0 ? converse() : one());
      if (done % 1_000 === 0) told(done, failures.length);
    }
  };
  await Promise.all(Array.from({ length: 6 }, lane));
  const memory = process.memoryUsage().rss;
  await server.close();
  return { requests: done, failures, statuses, kinds, slowest, memory };
}
