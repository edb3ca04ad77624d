import { limits } from '@koinon/core';
import { readQueryRequest } from '@koinon/core/internal';
import type { FastifyInstance } from 'fastify';
import { answerQuery, defaultQueryLimits } from '../../query/answer.ts';
import { Turns } from '../../query/turns.ts';
import type { QueryLimits } from '../../store/query.ts';
import type { Service } from '../service.ts';

/** Queries that are run at once, so that pulls and pushes find a connection to the database; and those that wait for a turn. */
const [atOnce, mostWaiting] = [4, 200];

/** Queries of tables that the server keeps. */
export function queryRoutes(
  app: FastifyInstance,
  root: string,
  { store, admission, observe }: Service,
  given: Partial<QueryLimits> | undefined,
): void {
  const turns = new Turns(atOnce, mostWaiting);
  const most = { ...defaultQueryLimits, ...given };
  app.post(`${root}/query`, { bodyLimit: limits.questionBytes }, async (request) => {
    const user = admission.userOf(request);
    const asked = await admission.admit(readQueryRequest(request.body), user);
    const began = performance.now();
    const answer = await turns.take(() => answerQuery(store, asked, admission.accessOf(user), most));
    observe({ what: 'query', rows: answer.rows?.length ?? 1, took: performance.now() - began });
    return answer;
  });
}
