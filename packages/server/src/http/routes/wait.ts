import { limits, type WaitResponse } from '@koinon/core';
import { readWaitRequest } from '@koinon/core/internal';
import type { FastifyInstance } from 'fastify';
import { givenCursor } from '../../pull/pull.ts';
import { tablesOf } from '../../realtime/connection.ts';
import { waitForChange } from '../../realtime/wait.ts';
import type { Service } from '../service.ts';

/** A request that is answered once something has changed: for replicas without WebSockets. */
export function waitRoutes(app: FastifyInstance, root: string, { store, hub, admission, held }: Service): void {
  app.post(`${root}/wait`, { bodyLimit: limits.questionBytes }, async (request): Promise<WaitResponse> => {
    const user = admission.userOf(request);
    const asked = await admission.admit(readWaitRequest(request.body), user);
    const { cursor: token, only, replica, queries } = asked;
    held.refuseFull();
    const cursor = await givenCursor(store, token, user);
    const moved = await waitForChange(
      hub,
      {
        ...{ cursor, token, access: admission.accessOf(user), asked: only, replica },
        ...(queries && { queried: tablesOf(store, queries) }),
      },
      held,
    );
    return { moved };
  });
}
