// Makes the pages on what the packages export, from the declarations of the build and their comments: packages/reference/dist/index.html.
// Ends with 1 for an export without a comment, and for a link in a comment that leads nowhere. `--check` makes no pages.
import { join } from 'node:path';
import { Application, LogLevel } from 'typedoc';

const root = join(import.meta.dirname, '../..');
const modules = [
  ['@koinon/core', 'core/dist/index.d.ts'],
  ['@koinon/core/messages', 'core/dist/messages.d.ts'],
  ['@koinon/client', 'client/dist/index.d.ts'],
  ['@koinon/client (in a browser)', 'client/dist/browser.d.ts'],
  ['@koinon/client/transfer', 'client/dist/transfer/transfer.d.ts'],
  ['@koinon/client/files', 'client/dist/files/index.d.ts'],
  ['@koinon/client/sources', 'client/dist/sources/source.d.ts'],
  ['@koinon/server', 'server/dist/index.d.ts'],
  ['@koinon/server/s3', 'server/dist/files/s3.d.ts'],
  ['@koinon/react', 'react/dist/index.d.ts'],
];
const app = await Application.bootstrap({
  name: 'Koinon',
  entryPoints: modules.map(([, file]) => join(root, 'packages', file)),
  tsconfig: join(import.meta.dirname, 'tsconfig.json'),
  readme: 'none',
  disableSources: true,
  excludePrivate: true,
  excludeInternal: true,
  hideGenerator: true,
  validation: { notExported: true, invalidLink: true, notDocumented: true },
  packagesRequiringDocumentation: ['core', 'client', 'server', 'react'].map((name) => `@koinon/${name}`),
  requiredToBeDocumented: ['Variable', 'Function', 'Class', 'Interface', 'Method', 'Accessor', 'TypeAlias'],
  treatWarningsAsErrors: true,
  logLevel: LogLevel.Warn,
});
const project = await app.convert();
if (project) {
  for (const module of project.children ?? []) {
    const [name] =
      modules.find(([, file]) => file.startsWith(`${module.name}.`) || file.startsWith(`${module.name}/`)) ?? [];
    module.name = name ?? module.name;
  }
  app.validate(project);
  if (!process.argv.includes('--check')) await app.generateDocs(project, join(import.meta.dirname, 'dist'));
}
process.exitCode = project && !app.logger.hasErrors() && !app.logger.hasWarnings() ? 0 : 1;
