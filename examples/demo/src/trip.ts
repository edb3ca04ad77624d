import { rm } from 'node:fs/promises';
import { join } from 'node:path';
import { type HeldRows, openReplica, type Replica } from '@koinon/client';
import { openSource } from '@koinon/client/sources';
import { type HeldTableName, KoinonError, type NewRow, real, reference, schema, table } from '@koinon/core';
import { cooperative } from './cooperative/schema.ts';
import type { Narrator } from './narrator.ts';
import { openWeather, type WeatherService } from './weather.ts';

/** The cooperative's tables, and one that only the phone has. */
const withWeather = schema({
  ...cooperative.tables,
  forecast: table(
    { site: reference('site'), degrees: real({ label: 'the temperature' }), wind: real({ minimum: 0 }) },
    { home: 'device' },
  ),
});

/** Odile's phone has little space: it has the sites only. She takes one of them along for a day, with its weather. */
export async function tellTrip(narrator: Narrator, folder: string, server: string): Promise<void> {
  narrator.chapter('Odile’s phone has little space: she takes one site along, and its weather');
  const file = join(folder, 'odile.db');
  for (const suffix of ['', '-wal', '-shm']) await rm(`${file}${suffix}`, { force: true });
  const replica = await openReplica({ schema: withWeather, file, server, only: { tables: ['member', 'site'] } });
  try {
    const { down } = await replica.sync();
    narrator.say(`She has the ${down.insert} members and sites, and no hive.`);
    const site = await replica.get('site', 'site-03');
    if (site === undefined) throw new KoinonError('no-such-row', 'The demo data has no site-03.');

    const take = async <T extends HeldTableName<typeof withWeather>>(
      name: string,
      rows: HeldRows<typeof withWeather, T>,
    ) => {
      const size = (await replica.estimatePull(rows))[rows.from];
      await replica.hold(name, rows);
      const report = await replica.sync();
      narrator.say(
        `${name}: ${size?.rows} rows of about ${((size?.bytes ?? 0) / 1_000).toFixed(1)} kB are to come, she is told. She takes them along: ${report.down.insert} came.`,
      );
    };
    await take(`The hives of ${site.name}`, { from: 'hive', where: { site: site.id } });
    const hives = await replica.rows({ from: 'hive' });
    await take('Their visits', { from: 'visit', where: { hive: { in: hives.map(({ id }) => id) } } });
    const blooming = await replica.rows({
      from: 'plant',
      where: { grows: 'orchard', blooms: { '<=': 5 }, until: { '>=': 5 } },
      order: [['nectar', 'desc'], 'name'],
    });
    narrator.say(
      `What blooms in orchards in May she asks the server, which alone has the catalogue: ${blooming.map(({ name }) => name).join(', ')}.`,
    );

    const service = await openWeather((await replica.rows({ from: 'site' })).map(({ id }) => id));
    try {
      await weather(narrator, replica, site.id, service);
    } finally {
      await service.close();
    }

    for (const { id } of await replica.holdings()) await replica.letGo(id);
    const { leave } = (await replica.sync()).down;
    narrator.say(`Home again she lets it go: ${leave} rows left her phone. Nothing was deleted.`);
  } finally {
    await replica.close();
  }
}

/** The phone asks a service of somebody else for the weather, is answered, is told that nothing is new, and then does not reach it. */
async function weather(
  narrator: Narrator,
  replica: Replica<typeof withWeather>,
  site: string,
  service: WeatherService,
): Promise<void> {
  const source = await openSource(replica, 'forecast', {
    maxAge: 3_600_000,
    async refresh({ etag, signal }) {
      const headers: HeadersInit = etag === undefined ? {} : { 'if-none-match': etag };
      const answer = await fetch(service.url, { signal, headers });
      if (answer.status === 304) return 'unchanged';
      if (!answer.ok) throw new Error(`The weather service answered ${answer.status}.`);
      const rows = (await answer.json()) as NewRow<typeof withWeather, 'forecast'>[];
      return { rows, etag: answer.headers.get('etag') ?? undefined };
    },
  });
  const told = async () => {
    const [now] = await replica.rows({ from: 'forecast', where: { site } });
    return now === undefined ? 'unknown' : `${now.degrees} degrees, wind ${now.wind}`;
  };
  try {
    await source.refresh();
    narrator.say(`The weather there, from a service of somebody else: ${await told()}.`);
    await source.refresh();
    narrator.say(
      `Asked again the service says that nothing is new: ${service.asked.unchanged} of ${service.asked.times} answers had no rows.`,
    );
    service.turn(7);
    await source.refresh();
    narrator.say(`The wind turns: ${await told()}.`);
    await service.close();
    await source.refresh().catch(() => narrator.refusal('Out of reach: the service does not answer.'));
    narrator.say(`Her phone still has what it was told last: ${await told()}.`);
  } finally {
    await source.close();
  }
}
