import '@mantine/core/styles.css';
import { type CSSVariablesResolver, createTheme, MantineProvider } from '@mantine/core';
import { createRoot } from 'react-dom/client';
import { Workbench } from './workbench.tsx';

const theme = createTheme({
  primaryColor: 'yellow',
  primaryShade: 9,
  fontFamily: 'system-ui, sans-serif',
  autoContrast: true,
});

/** Greys that can be read: each text has a contrast of 4.5 at least. */
const readable: CSSVariablesResolver = () => ({
  variables: {},
  light: { '--mantine-color-dimmed': 'var(--mantine-color-gray-7)' },
  dark: { '--mantine-color-dimmed': 'var(--mantine-color-dark-1)' },
});

createRoot(document.getElementById('root') as HTMLElement).render(
  <MantineProvider theme={theme} cssVariablesResolver={readable} defaultColorScheme="light">
    <Workbench />
  </MantineProvider>,
);
