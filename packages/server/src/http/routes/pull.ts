import { limits } from '@koinon/core';
import { jsonLines, readPullRequest } from '@koinon/core/internal';
import type { FastifyInstance } from 'fastify';
import { pull } from '../../pull/pull.ts';
import type { Service } from '../service.ts';

/** What has changed since a cursor. */
export function pullRoutes(
  app: FastifyInstance,
  root: string,
  { store, admission, retention, observe }: Service,
): void {
  app.post(`${root}/pull`, { bodyLimit: limits.questionBytes }, async (request, reply) => {
    const user = admission.userOf(request);
    const asked = await admission.admit(readPullRequest(request.body), user);
    const began = performance.now();
    const { header, rows } = await pull(store, asked, admission.accessOf(user));
    const { replica, schemaVersion = null } = asked;
    if (replica !== undefined)
      retention.met({ replica, schemaVersion, position: header.to, rowsDown: rows.length, rowsUp: 0 });
    const lines = [header, ...rows].map((line) => `${JSON.stringify(line)}\n`).join('');
    observe({ what: 'pull', rows: rows.length, bytes: lines.length, took: performance.now() - began });
    return reply.type(jsonLines).send(lines);
  });
}
