import { limits } from '@koinon/core';
import { readRestoreRequest, readTrashRequest } from '@koinon/core/internal';
import type { FastifyInstance } from 'fastify';
import { restore, trash } from '../../trash/trash.ts';
import type { Service } from '../service.ts';

/** Deleted rows, and bringing them back. */
export function trashRoutes(app: FastifyInstance, root: string, service: Service): void {
  const { store, admission, rules } = service;
  app.get(`${root}/trash`, async (request) =>
    trash(store, readTrashRequest(request.query), admission.accessOf(admission.userOf(request))),
  );
  app.post(`${root}/restore`, { bodyLimit: limits.questionBytes }, async (request, reply) => {
    const user = admission.userOf(request);
    await restore(store, readRestoreRequest(request.body), { ...rules, user }, admission.accessOf(user));
    store.announce();
    return reply.status(204).send();
  });
}
