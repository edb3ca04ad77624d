import '@mantine/core/styles.css';
import '@mantine/notifications/styles.css';
import { Alert, Button, Center, Loader, MantineProvider, Stack } from '@mantine/core';
import { Notifications } from '@mantine/notifications';
import { StrictMode, Suspense, use } from 'react';
import { createRoot } from 'react-dom/client';
import { App } from './app.tsx';
import { Leaving } from './leaving.tsx';
import { ErrorBoundary } from './parts/error-boundary.tsx';
import { openFieldBook, ReplicaProvider } from './replica.ts';
import { theme } from './theme.ts';

const opening = openFieldBook();

function Opened() {
  return (
    <ReplicaProvider value={use(opening)}>
      <Leaving>
        <App />
      </Leaving>
    </ReplicaProvider>
  );
}

const failed = (error: Error) => (
  <Stack p="md">
    <Alert color="red" title="The field book cannot be opened">
      {error.message}
    </Alert>
    <Button onClick={() => location.reload()}>Try again</Button>
  </Stack>
);

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <MantineProvider theme={theme} defaultColorScheme="auto">
      <Notifications position="bottom-center" />
      <ErrorBoundary fallback={failed}>
        <Suspense
          fallback={
            <Center h="100dvh">
              <Loader aria-label="Opening the field book" />
            </Center>
          }
        >
          <Opened />
        </Suspense>
      </ErrorBoundary>
    </MantineProvider>
  </StrictMode>,
);
