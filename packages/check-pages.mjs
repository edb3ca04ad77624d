// Compares the pages of docs/reference that are made from the code with it: the commands and the messages; `--write` renews them.
import { execFileSync } from 'node:child_process';
import { readFileSync, writeFileSync } from 'node:fs';
import { english, german } from './core/dist/messages.js';

const isWriting = process.argv.includes('--write');
const help = (...words) =>
  execFileSync(
    process.execPath,
    ['--import', 'tsx', '--conditions=koinon-source', 'packages/cli/src/koinon.ts', ...words, '--help'],
    { encoding: 'utf8', env: { ...process.env, COLUMNS: '80', NO_COLOR: '1' } },
  ).trim();
const names = [...help().matchAll(/^ {2}([\w-]+) .*[<[]/gm)].map(([, name]) => name).filter((name) => name !== 'help');

compare(
  'docs/reference/commands.md',
  `# Commands

\`koinon\` is in the package \`@koinon/cli\`. Each command prints its help with \`--help\`, and JSON with \`--json\`. Exit code 0: it is done.
1: something went wrong, and the message has its code. 2: a wrong word on the command line.

${names.map((name) => `## ${name}\n\n\`\`\`text\n${help(name)}\n\`\`\`\n`).join('\n')}`,
);
const plain = (text) => text.replaceAll('_', '\\_');
const rows = Object.keys(english).map((name) => `| \`${name}\` | ${plain(english[name])} | ${plain(german[name])} |`);
compare(
  'docs/reference/messages.md',
  `# Messages

The sentences by name, as \`@koinon/core/messages\` has them. [Messages in another language](../guide/translating.md) shows their use.

\`{column}\` and \`{table}\` are the labels of the problem's column and table, \`{row}\` is the label of its table with the value that names
the row, \`{other}\` is the label of another table, and \`{values}\` are columns with their values. \`{rule}\`, \`{place}\`, \`{missing}\` and
\`{says}\` are sentences of this list. All others are put in as they are.

| name | English | German |
| --- | --- | --- |
${rows.join('\n')}
`,
);

function compare(page, text) {
  if (isWriting) writeFileSync(page, text);
  if (readFileSync(page, 'utf8') === text) console.log(`${page} is as the code says.`);
  else {
    console.error(`${page} differs from the code; node packages/check-pages.mjs --write renews it.`);
    process.exitCode = 1;
  }
}
