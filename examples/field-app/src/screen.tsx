import '@mantine/core/styles.css';
import '@mantine/notifications/styles.css';
import { Alert, Button, Center, Loader, MantineProvider, Stack } from '@mantine/core';
import { Notifications } from '@mantine/notifications';
import { StrictMode, useEffect, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { App } from './app.tsx';
import { Leaving } from './leaving.tsx';
import { ErrorBoundary } from './parts/error-boundary.tsx';
import { type FieldReplica, ReplicaProvider } from './replica.ts';
import { readable, theme } from './theme.ts';

/** Shows that the field book is being opened, then the app. Not by Suspense, which shows what is ready a third of a second late. */
function Opened({ opening }: { readonly opening: Promise<FieldReplica> }) {
  const [opened, setOpened] = useState<{ readonly replica?: FieldReplica; readonly error?: Error }>({});
  useEffect(() => {
    opening.then(
      (replica) => setOpened({ replica }),
      (error: Error) => setOpened({ error }),
    );
  }, [opening]);
  if (opened.error) throw opened.error;
  if (!opened.replica)
    return (
      <Center h="100dvh">
        <Loader role="status" aria-label="Opening the field book" />
      </Center>
    );
  return (
    <ReplicaProvider value={opened.replica}>
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

/** Draws the app. */
export function draw(opening: Promise<FieldReplica>): void {
  createRoot(document.getElementById('root') as HTMLElement).render(
    <StrictMode>
      <MantineProvider theme={theme} cssVariablesResolver={readable} defaultColorScheme="auto">
        <Notifications position="bottom-center" />
        <ErrorBoundary fallback={failed}>
          <Opened opening={opening} />
        </ErrorBoundary>
      </MantineProvider>
    </StrictMode>,
  );
}
