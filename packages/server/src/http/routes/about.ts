import { type About, protocolVersion } from '@koinon/core';
import type { FastifyInstance } from 'fastify';
import { openApi } from '../openapi.ts';
import type { Service } from '../service.ts';

/** Which server this is, and how it is asked. @param isOpen whether anybody may know how much is written here. */
export function aboutRoutes(app: FastifyInstance, root: string, { store }: Service, isOpen: boolean): void {
  app.get(`${root}/about`, async (): Promise<About> => {
    const { feed, schema } = store;
    const position = isOpen ? store.ordinal(await store.read((reader) => reader.position())) : null;
    return {
      server: 'koinon',
      protocol: protocolVersion,
      feed,
      schemaVersion: schema.version,
      tables: Object.keys(schema.tables),
      position,
    };
  });
  app.get(`${root}/openapi.json`, async () => openApi);
}
