import { setImmediate } from 'node:timers/promises';
import { type AppliedResponse, limits, type Outcome, type PushResponse } from '@koinon/core';
import { readAppliedRequest, readPushRequest } from '@koinon/core/internal';
import type { FastifyInstance } from 'fastify';
import type { User } from '../../auth/authenticate.ts';
import { appliedBefore } from '../../push/assigned-keys.ts';
import { push } from '../../push/push.ts';
import type { Service } from '../service.ts';

/** The uploads of replicas, and which of them were applied. */
export function pushRoutes(app: FastifyInstance, root: string, service: Service): void {
  const { store, admission, line } = service;
  app.post(`${root}/push`, { bodyLimit: limits.requestBytes }, async (request) =>
    line.take(
      () => request.socket.destroyed,
      () => takePush(service, request.body, admission.userOf(request)),
    ),
  );
  app.post(`${root}/applied`, { bodyLimit: limits.questionBytes }, async (request): Promise<AppliedResponse> => {
    const user = admission.userOf(request);
    const { origins } = await admission.admit(readAppliedRequest(request.body), user);
    return appliedBefore(store, user?.id, origins);
  });
}

/** Takes up a push, over HTTP or over a live connection. @throws KoinonError. */
export async function takePush(service: Service, body: unknown, user: User | undefined): Promise<PushResponse> {
  const { store, admission, rules, scopes, retention, observe, debug } = service;
  const asked = await admission.admit(readPushRequest(body), user);
  const began = performance.now();
  const answer = await push(store, asked, { ...rules, user }, scopes, ({ name }) => debug({ state: name }, 'push'));
  store.announce();
  service.effects.wake();
  const { replica, schemaVersion = null, transactions } = asked;
  const changes = transactions.reduce((sum, each) => sum + each.changes.length, 0);
  const outcomes = answer.outcomes.map(({ outcome }) => outcome);
  const actions = transactions.flatMap(({ actions: calls = [] }, n) =>
    calls.map(({ name }) => ({ name, outcome: outcomes[n] as Outcome['outcome'] })),
  );
  observe({ what: 'push', changes, outcomes, actions, took: performance.now() - began });
  retention.met({ replica, schemaVersion, position: null, rowsDown: 0, rowsUp: changes });
  // Those who follow are told first: whoever sent something has it on the screen already.
  await setImmediate();
  return answer;
}
