import { createHash } from 'node:crypto';
import fastify from 'fastify';

/** The weather of one site, as the service tells it. */
interface Forecast {
  readonly id: string;
  readonly site: string;
  readonly degrees: number;
  readonly wind: number;
}

/** A weather service of somebody else, played by this program: it only answers questions, and knows nothing of Koinon. */
export interface WeatherService {
  readonly url: string;
  /** How often it was asked, and how often the one who asked had its answer already. */
  readonly asked: { readonly times: number; readonly unchanged: number };
  /** The weather turns: another wind at every site. */
  turn(wind: number): void;
  close(): Promise<void>;
}

/** Starts the service for some sites. */
export async function openWeather(sites: readonly string[]): Promise<WeatherService> {
  const asked = { times: 0, unchanged: 0 };
  let wind = 2;
  const app = fastify({ forceCloseConnections: true });
  app.get('/forecast', async (request, reply) => {
    const forecasts: Forecast[] = sites.map((site, i) => ({ id: `at-${site}`, site, degrees: 11 + (i % 5), wind }));
    const etag = `"${createHash('sha256').update(JSON.stringify(forecasts)).digest('base64url')}"`;
    asked.times++;
    reply.header('etag', etag);
    if (request.headers['if-none-match'] !== etag) return forecasts;
    asked.unchanged++;
    return reply.code(304).send();
  });
  const url = await app.listen({ host: '127.0.0.1', port: 0 });
  return {
    url: `${url}/forecast`,
    asked,
    turn: (next) => {
      wind = next;
    },
    close: () => app.close(),
  };
}
