import {
  ActionIcon,
  Alert,
  AppShell,
  Flex,
  Group,
  Text,
  UnstyledButton,
  useComputedColorScheme,
  useMantineColorScheme,
} from '@mantine/core';
import { IconMoon, IconSun } from '@tabler/icons-react';
import { useEffect, useState } from 'react';
import { Route, Router, Switch } from 'wouter';
import { usePlace } from './leaving.tsx';
import { DevicePage } from './pages/device.tsx';
import { HivePage } from './pages/hive.tsx';
import { HiveFormPage } from './pages/hive-form.tsx';
import { MovePage } from './pages/move.tsx';
import { PlantsPage } from './pages/plants.tsx';
import { SitePage } from './pages/site.tsx';
import { SiteFormPage } from './pages/site-form.tsx';
import { SitesPage } from './pages/sites.tsx';
import { ToolsPage } from './pages/tools.tsx';
import { TrashPage } from './pages/trash.tsx';
import { VisitPage } from './pages/visit.tsx';
import { WaitingPage } from './pages/waiting.tsx';
import { SyncMark } from './parts/sync-mark.tsx';
import { photosOf } from './photos.ts';
import { useReplica } from './replica.ts';

const usePath = (): [string, (path: string) => void] => {
  const { path, go } = usePlace();
  return [path, go];
};

/** The app: a header, and the page of the path. */
export function App() {
  const { go } = usePlace();
  const { setColorScheme } = useMantineColorScheme();
  const isDark = useComputedColorScheme() === 'dark';
  const replica = useReplica();
  // Photos that wait go up, whatever page is shown. If there is no place for them, the page of a visit says so.
  useEffect(() => void photosOf(replica).catch(() => undefined), [replica]);
  return (
    <AppShell header={{ height: 56 }} padding="md">
      <AppShell.Header>
        <Group h="100%" px="md" justify="space-between" wrap="nowrap">
          <UnstyledButton onClick={() => go('/')} aria-label="Field book: to the sites" miw={0}>
            {/* The name is left out where the state of the sync needs the room. */}
            <Flex wrap="wrap" columnGap="xs" rowGap={0} h={28} style={{ overflow: 'hidden' }}>
              <img src="./hive.svg" width={28} height={28} alt="" />
              <Text fw={700} lh="28px" style={{ whiteSpace: 'nowrap' }}>
                Field book
              </Text>
            </Flex>
          </UnstyledButton>
          <Group gap={4} wrap="nowrap" style={{ flexShrink: 0 }}>
            <ActionIcon
              aria-label={isDark ? 'Light colours' : 'Dark colours'}
              onClick={() => setColorScheme(isDark ? 'light' : 'dark')}
            >
              {isDark ? <IconSun /> : <IconMoon />}
            </ActionIcon>
            <SyncMark />
          </Group>
        </Group>
      </AppShell.Header>
      <AppShell.Main maw={760} mx="auto" w="100%">
        <NotKept />
        <Router hook={usePath}>
          <Switch>
            <Route path="/" component={SitesPage} />
            <Route path="/device" component={DevicePage} />
            <Route path="/waiting" component={WaitingPage} />
            <Route path="/trash" component={TrashPage} />
            <Route path="/tools" component={ToolsPage} />
            <Route path="/plants" component={PlantsPage} />
            <Route path="/site/new">
              <SiteFormPage id={undefined} />
            </Route>
            <Route path="/site/:id/edit">{({ id }) => <SiteFormPage id={id} />}</Route>
            <Route path="/site/:id/hive">{({ id }) => <HiveFormPage id={undefined} site={id} />}</Route>
            <Route path="/site/:id">{({ id }) => <SitePage id={id} />}</Route>
            <Route path="/hive/:id/edit">{({ id }) => <HiveFormPage id={id} site={undefined} />}</Route>
            <Route path="/hive/:id/visit">{({ id }) => <VisitPage id={undefined} hive={id} />}</Route>
            <Route path="/hive/:id/move">{({ id }) => <MovePage hive={id} refused={undefined} />}</Route>
            <Route path="/move/:id">{({ id }) => <MovePage hive={undefined} refused={id} />}</Route>
            <Route path="/hive/:id">{({ id }) => <HivePage id={id} />}</Route>
            <Route path="/visit/:id">{({ id }) => <VisitPage id={id} hive={undefined} />}</Route>
            <Route>
              <Text>There is no such page.</Text>
            </Route>
          </Switch>
        </Router>
      </AppShell.Main>
    </AppShell>
  );
}

/** Says when the browser keeps nothing. */
function NotKept() {
  const replica = useReplica();
  const [problem, setProblem] = useState<string | null>(null);
  useEffect(() => {
    void replica.storage().then((storage) => setProblem(storage.problem));
  }, [replica]);
  if (problem === null) return null;
  return (
    <Alert color="red" title="Nothing is kept on this device" mb="md">
      {problem} What you enter is gone when the last tab of this app is closed.
    </Alert>
  );
}
