import '@mantine/core/styles.css';
import { createTheme, MantineProvider } from '@mantine/core';
import { createRoot } from 'react-dom/client';
import { Workbench } from './workbench.tsx';

const theme = createTheme({
  primaryColor: 'yellow',
  primaryShade: 9,
  fontFamily: 'system-ui, sans-serif',
  autoContrast: true,
});

createRoot(document.getElementById('root') as HTMLElement).render(
  <MantineProvider theme={theme} defaultColorScheme="light">
    <Workbench />
  </MantineProvider>,
);
