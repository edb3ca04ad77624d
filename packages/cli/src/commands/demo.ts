import { Command } from 'commander';
import { tellStory } from '../demo/story.ts';
import { portNumber } from './serve.ts';
import { untilStopped } from './until-stopped.ts';

interface DemoOptions {
  readonly exit?: boolean;
  readonly folder: string;
  readonly port: number;
  readonly database?: string;
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
    .option('--port <number>', 'the server’s port; 0 takes a free one', portNumber, 0)
    .action(async (options: DemoOptions) => {
      const { agreed, url, close } = await tellStory(options.folder, options.port, options.database);
      if (!options.exit) {
        console.log(`\nThe server stays up at ${url}. Ctrl-C stops it.`);
        await untilStopped();
      }
      await close();
      process.exitCode = agreed ? 0 : 1;
    });
}
