// Compares the public declarations of each package with the snapshots in docs/declarations. `--write` renews them: then a change of
// what is public is a visible difference of a commit.
import { mkdir } from 'node:fs/promises';
import { join } from 'node:path';
import { Extractor, ExtractorConfig } from '@microsoft/api-extractor';

const root = join(import.meta.dirname, '..');
const isWriting = process.argv.includes('--write');
const entries = [
  ['core', 'index'],
  ['core', 'messages'],
  ['client', 'index'],
  ['client', 'browser'],
  ['client', 'transfer/transfer'],
  ['client', 'files/index'],
  ['client', 'sources/source'],
  ['server', 'index'],
  ['server', 'files/s3'],
  ['react', 'index'],
];
const reports = join(root, 'docs/declarations');
const temporary = join(root, 'node_modules/.declarations');
await mkdir(reports, { recursive: true });
let isSame = true;
for (const [name, entry] of entries) {
  const folder = join(root, 'packages', name);
  const reportFileName = `${[name, ...(entry === 'index' ? [] : [entry.split('/')[0]])].join('-')}.api.md`;
  const config = ExtractorConfig.prepare({
    configObject: {
      projectFolder: folder,
      mainEntryPointFilePath: join(folder, 'dist', `${entry}.d.ts`),
      compiler: {
        overrideTsconfig: {
          compilerOptions: {
            target: 'es2022',
            module: 'nodenext',
            lib: ['es2023', 'dom'],
            types: ['node'],
            skipLibCheck: true,
          },
        },
      },
      apiReport: {
        enabled: true,
        reportFileName,
        reportFolder: reports,
        reportTempFolder: temporary,
        // The types of messages come from their schemas, which are not exported and decide what the types are.
        includeForgottenExports: reportFileName.startsWith('core.'),
      },
      docModel: { enabled: false },
      dtsRollup: { enabled: false },
      tsdocMetadata: { enabled: false },
      messages: {
        compilerMessageReporting: { default: { logLevel: 'none' } },
        extractorMessageReporting: {
          default: { logLevel: 'none' },
          'ae-forgotten-export': { logLevel: 'warning', addToApiReportFile: true },
        },
        tsdocMessageReporting: { default: { logLevel: 'none' } },
      },
    },
    configObjectFullPath: undefined,
    packageJsonFullPath: join(folder, 'package.json'),
  });
  const { apiReportChanged } = Extractor.invoke(config, {
    localBuild: isWriting,
    messageCallback: (message) => {
      message.handled = true;
    },
  });
  if (!apiReportChanged) continue;
  isSame = isSame && isWriting;
  console.log(
    `${reportFileName}: ${isWriting ? 'written' : 'differs from docs/declarations; npm run check:declarations -- --write renews it'}`,
  );
}
if (isSame) console.log('The public declarations are as docs/declarations has them.');
process.exitCode = isSame ? 0 : 1;
