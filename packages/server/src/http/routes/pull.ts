import { limits } from '@koinon/core';
import { jsonLines, readPullRequest } from '@koinon/core/internal';
import type { FastifyInstance } from 'fastify';
import { linesOf, pull } from '../../pull/pull.ts';
import type { Service } from '../service.ts';

/** The changes since a cursor. */
export function pullRoutes(
  app: FastifyInstance,
  root: string,
  { store, admission, line, retention, observe }: Service,
): void {
  app.post(`${root}/pull`, { bodyLimit: limits.questionBytes }, async (request, reply) => {
    const user = admission.userOf(request);
    const read = readPullRequest(request.body);
    const began = performance.now();
    const { asked, answer } = await line.take(
      () => request.socket.destroyed,
      async () => {
        const asked = await admission.admit(read, user);
        return { asked, answer: await pull(store, asked, admission.accessOf(user)) };
      },
    );
    const { to, rows } = answer.header;
    const { replica, schemaVersion = null } = asked;
    if (replica !== undefined) retention.met({ replica, schemaVersion, position: to, rowsDown: rows, rowsUp: 0 });
    const lines = linesOf(answer);
    observe({ what: 'pull', rows, bytes: lines.length, took: performance.now() - began, from: answer.from });
    return reply.type(jsonLines).send(lines);
  });
}
