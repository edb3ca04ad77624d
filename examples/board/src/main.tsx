import '@mantine/core/styles.css';
import '@mantine/charts/styles.css';
import { connectTab } from '@koinon/client/browser';
import { cooperative } from '@koinon/demo';
import { Alert, type CSSVariablesResolver, createTheme, MantineProvider } from '@mantine/core';
import { createRoot } from 'react-dom/client';
import { Board } from './board.tsx';

/** Greys that can be read from afar: each text has a contrast of 4.5 at least. */
const readable: CSSVariablesResolver = () => ({
  variables: {},
  light: { '--mantine-color-dimmed': 'var(--mantine-color-gray-7)' },
  dark: { '--mantine-color-dimmed': 'var(--mantine-color-dark-1)' },
});

const theme = createTheme({
  primaryColor: 'yellow',
  primaryShade: 9,
  fontFamily: 'system-ui, sans-serif',
  autoContrast: true,
});
const root = createRoot(document.getElementById('root') as HTMLElement);
const worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module' });

connectTab(worker, cooperative).then(
  (replica) =>
    root.render(
      <MantineProvider theme={theme} cssVariablesResolver={readable} defaultColorScheme="light">
        <Board replica={replica} />
      </MantineProvider>,
    ),
  (error: Error) =>
    root.render(
      <MantineProvider theme={theme} cssVariablesResolver={readable}>
        <Alert color="red" title="The board cannot be opened">
          {error.message}
        </Alert>
      </MantineProvider>,
    ),
);
