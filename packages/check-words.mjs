// Looks at the words of docs and comments: sentences begin with their subject, and words of our own that have been replaced by
// standard terms do not come back.
import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';

/** A sentence that begins with one of these hides its subject in a clause. So many in 100 are allowed. */
const clause = /^(What|Who|Whoever|Where|Whether|Of)\b/;
const allowed = 2;

/** Words that were private language, and the standard term of each. */
const replaced = {
  misfit: 'invalid value',
  sweep: 'resync',
  hopeful: 'optimistic',
  toCome: 'estimatePull',
  signedIn: 'authChanged',
  restamp: 'resend-all',
};

const files = execFileSync('git', ['ls-files', '*.md', '*.ts', '*.tsx'], { encoding: 'utf8' })
  .trim()
  .split('\n')
  .filter((file) => !file.startsWith('docs/declarations/'));

/** The sentences of a page, without its code, tables and headings. */
function sentencesOfPage(text) {
  const prose = text
    .replace(/```[\s\S]*?```/g, '')
    .split('\n')
    .filter((line) => !/^\s*(#|\||!\[|---)/.test(line))
    .join('\n');
  return prose.split(/\n\s*\n|\n\s*[-*\d]+\.? /).flatMap(sentencesIn);
}

/** The sentences of the comments of a source file; lines that follow each other are one comment. */
function sentencesOfSource(text) {
  const comments = [...text.matchAll(/\/\*\*([\s\S]*?)\*\/|((?:^\s*\/\/ .*\n?)+)/gm)].map(([, block, lines]) =>
    (block ?? lines).replace(/^\s*(\*|\/\/) ?/gm, ' ').replace(/@example[\s\S]*/, ''),
  );
  return comments.flatMap(sentencesIn);
}

function sentencesIn(text) {
  return text
    .replace(/\s+/g, ' ')
    .split(/(?<=[.!?:]) (?=[A-Z`])/)
    .map((sentence) => sentence.trim())
    .filter((sentence) => /[a-z]/.test(sentence));
}

const mistakes = [];
for (const [kind, ends, sentencesOf] of [
  ['docs', /\.md$/, sentencesOfPage],
  ['comments', /\.tsx?$/, sentencesOfSource],
]) {
  const sentences = files
    .filter((file) => ends.test(file))
    .flatMap((file) => sentencesOf(readFileSync(file, 'utf8')).map((sentence) => ({ file, sentence })));
  const hidden = sentences.filter(({ sentence }) => clause.test(sentence));
  if (hidden.length * 100 > sentences.length * allowed)
    mistakes.push(
      `${kind}: ${hidden.length} of ${sentences.length} sentences begin with What, Who, Whoever, Where, Whether or Of; ${allowed} in 100 may.`,
      ...hidden.map(({ file, sentence }) => `  ${file}: ${sentence.slice(0, 100)}`),
    );
  for (const { file, sentence } of sentences)
    for (const [word, term] of Object.entries(replaced))
      if (new RegExp(`\\b${word}\\b`, 'i').test(sentence) && file !== 'CHANGELOG.md')
        mistakes.push(`${file}: “${word}” is “${term}”: ${sentence.slice(0, 100)}`);
}
for (const mistake of mistakes) console.error(mistake);
if (mistakes.length === 0) console.log('Docs and comments name their subjects first.');
process.exitCode = mistakes.length === 0 ? 0 : 1;
