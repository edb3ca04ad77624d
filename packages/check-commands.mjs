// Compares docs/reference/commands.md with the help of each command; `--write` renews the page.
import { execFileSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';

const page = 'docs/reference/commands.md';
const help = (...words) =>
  execFileSync(
    process.execPath,
    ['--import', 'tsx', '--conditions=koinon-source', 'packages/cli/src/koinon.ts', ...words, '--help'],
    { encoding: 'utf8', env: { ...process.env, COLUMNS: '80', NO_COLOR: '1' } },
  ).trim();
const whole = help();
const names = [...whole.matchAll(/^ {2}([\w-]+) .*[<[]/gm)].map(([, name]) => name).filter((name) => name !== 'help');
const text = `# Commands

\`koinon\` is in the package \`@koinon/cli\`. Each command prints its help with \`--help\`, and JSON with \`--json\`. Exit code 0: it is done.
1: something went wrong, and the message has its code. 2: a wrong word on the command line.

${names.map((name) => `## ${name}\n\n\`\`\`text\n${help(name)}\n\`\`\`\n`).join('\n')}`;
if (process.argv.includes('--write')) writeFileSync(page, text);
if (readFileSync(page, 'utf8') === text) console.log(`${page} is as the commands say.`);
else {
  console.error(`${page} differs from what the commands say; node packages/check-commands.mjs --write renews it.`);
  process.exitCode = 1;
}
