import { Command } from 'commander';
import { tellStory } from '../demo/story.ts';
import { portNumber } from './serve.ts';
import { untilStopped } from './until-stopped.ts';

interface DemoOptions {
  readonly exit?: boolean;
  readonly folder: string;
  readonly port: number;
  readonly database?: string;
  readonly pages?: string;
  readonly pagePort: number;
}

/** `koinon demo`: the bee-keepers' story, told step by step on real files. */
export function demoCommand(): Command {
  return new Command('demo')
    .description('Tell the bee-keepers’ story: two phones without signal, one office, one sync. Fresh files each time.')
    .option('--exit', 'end after the story instead of leaving the server up')
    .option('--folder <path>', 'where the database files go; Koinon’s demo files in it are replaced', 'koinon-demo')
    .option(
      '--database <url>',
      'a PostgreSQL database for the server instead of a file; the demo’s tables in it are replaced',
    )
    .option('--pages <folder>', 'the folder of the built examples; the workbench is served from them after the story')
    .option('--page-port <number>', 'the port of the workbench; 0 takes a free one', portNumber, 4300)
    .option('--port <number>', 'the server’s port; 0 takes a free one', portNumber, 0)
    .action(async (options: DemoOptions) => {
      const { folder, port, database, pages, pagePort, exit } = options;
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
        await untilStopped();
      }
      await close();
      process.exitCode = agreed ? 0 : 1;
    });
}
