import { KoinonError } from '@koinon/core';
import { Command, InvalidArgumentError } from 'commander';
import { tellStory } from './story.ts';

interface DemoOptions {
  readonly exit?: boolean;
  readonly folder: string;
  readonly port: number;
  readonly database?: string;
  readonly pages?: string;
  readonly pagePort: number;
}

const program = new Command('npm run demo --')
  .description('Tell the bee-keepers’ story: two phones without signal, one office, one sync. Fresh files each time.')
  .option('--exit', 'end after the story instead of leaving the server up')
  .option('--folder <path>', 'where the database files go; the demo’s files in it are replaced', 'koinon-demo')
  .option(
    '--database <url>',
    'a PostgreSQL database for the server instead of a file; the demo’s tables in it are replaced',
  )
  .option('--pages <folder>', 'the folder of the built examples; the workbench is served from them after the story')
  .option('--page-port <number>', 'the port of the workbench; 0 takes a free one', portNumber, 4300)
  .option('--port <number>', 'the server’s port; 0 takes a free one', portNumber, 0)
  .action(async ({ folder, port, database, pages, pagePort, exit }: DemoOptions) => {
    const { agreed, url, workbench, close } = await tellStory(folder, port, {
      ...(database && { database }),
      ...(pages && !exit && { pages, pagePort }),
    });
    if (!exit) {
      console.log(`\nThe server stays up at ${url}. Ctrl-C stops it.`);
      if (workbench)
        console.log(
          `Open ${workbench.url} for two devices and the server side by side, and ${workbench.url}/board/ for the office’s board.`,
        );
      await new Promise<void>((done) => {
        for (const signal of ['SIGINT', 'SIGTERM'] as const) process.once(signal, () => done());
      });
    }
    await close();
    process.exitCode = agreed ? 0 : 1;
  });

function portNumber(text: string): number {
  const port = Number(text);
  if (Number.isInteger(port) && port >= 0 && port <= 65_535) return port;
  throw new InvalidArgumentError('A port is a whole number from 0 to 65535.');
}

try {
  await program.parseAsync();
} catch (error) {
  if (!(error instanceof KoinonError)) throw error;
  console.error(`error: ${error.message} (${error.code})`);
  process.exitCode = 1;
}
