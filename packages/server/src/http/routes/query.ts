import { limits } from '@koinon/core';
import { readQueryRequest } from '@koinon/core/internal';
import type { FastifyInstance } from 'fastify';
import { answerQuery, defaultQueryLimits } from '../../query/answer.ts';
import { Turns } from '../../query/turns.ts';
import type { QueryLimits } from '../../store/query.ts';
import type { Service } from '../service.ts';

/** So few are run at once that pulls and pushes find a connection to the database. */
const turnLimits = { atOnce: 4, waiting: 200, ofOne: 20 };

/** Queries of tables that the server keeps. */
export function queryRoutes(
  app: FastifyInstance,
  root: string,
  { store, admission, observe }: Service,
  given: Partial<QueryLimits> | undefined,
): void {
  const turns = new Turns(turnLimits);
  const most = { ...defaultQueryLimits, ...given };
  app.addHook('preClose', async () => turns.close());
  app.post(`${root}/query`, { bodyLimit: limits.questionBytes }, async (request) => {
    const user = admission.userOf(request);
    const asked = await admission.admit(readQueryRequest(request.body), user);
    const began = performance.now();
    const answer = await turns.take(user?.id ?? request.ip, () =>
      answerQuery(store, asked, admission.accessOf(user), most),
    );
    observe({ what: 'query', rows: answer.rows?.length ?? 1, took: performance.now() - began });
    return answer;
  });
}
