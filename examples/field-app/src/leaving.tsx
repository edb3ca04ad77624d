import { Button, Modal, Stack, Text } from '@mantine/core';
import { createContext, type ReactNode, useCallback, useContext, useEffect, useMemo, useRef, useState } from 'react';

/** Edits that must not be lost by going elsewhere. */
interface Unsaved {
  /** Stores them; false when they are refused. */
  save(): Promise<boolean>;
  drop(): void;
}

interface Place {
  readonly path: string;
  /** Goes to another page; asks first when there are unsaved edits. */
  go(path: string): void;
  guard(unsaved: Unsaved | undefined): void;
}

const PlaceContext = createContext<Place | undefined>(undefined);
const pathOf = () => location.hash.replace(/^#/, '') || '/';

/** The place in the app. Leaving a page with unsaved edits asks whether to save, drop or stay. */
export function Leaving({ children }: { readonly children: ReactNode }) {
  const [path, setPath] = useState(pathOf);
  const [target, setTarget] = useState<string>();
  const unsaved = useRef<Unsaved>(undefined);
  const here = useRef(path);

  const show = useCallback((to: string) => {
    if (pathOf() !== to) history.pushState(null, '', `#${to}`);
    here.current = to;
    setPath(to);
    scrollTo(0, 0);
  }, []);
  const go = useCallback((to: string) => (unsaved.current ? setTarget(to) : show(to)), [show]);
  const guard = useCallback((given: Unsaved | undefined) => {
    unsaved.current = given;
  }, []);

  useEffect(() => {
    const moved = () => {
      const to = pathOf();
      if (to === here.current) return;
      if (unsaved.current === undefined) return show(to);
      history.pushState(null, '', `#${here.current}`);
      setTarget(to);
    };
    const closing = (event: BeforeUnloadEvent) => unsaved.current && event.preventDefault();
    addEventListener('popstate', moved);
    addEventListener('hashchange', moved);
    addEventListener('beforeunload', closing);
    return () => {
      removeEventListener('popstate', moved);
      removeEventListener('hashchange', moved);
      removeEventListener('beforeunload', closing);
    };
  }, [show]);

  const leave = (to: string) => {
    unsaved.current = undefined;
    setTarget(undefined);
    show(to);
  };
  const save = async () => {
    if (target === undefined) return;
    if (await unsaved.current?.save()) leave(target);
    else setTarget(undefined);
  };
  const drop = () => {
    unsaved.current?.drop();
    if (target !== undefined) leave(target);
  };
  const place = useMemo(() => ({ path, go, guard }), [path, go, guard]);
  return (
    <PlaceContext value={place}>
      {children}
      <Modal
        opened={target !== undefined}
        onClose={() => setTarget(undefined)}
        title="There are unsaved edits"
        centered
        closeButtonProps={{ 'aria-label': 'Stay' }}
      >
        <Stack>
          <Text>What you have typed on this page is not stored yet.</Text>
          <Button onClick={save} data-autofocus>
            Save
          </Button>
          <Button variant="light" color="red" onClick={drop}>
            Drop the edits
          </Button>
          <Button variant="default" onClick={() => setTarget(undefined)}>
            Stay here
          </Button>
        </Stack>
      </Modal>
    </PlaceContext>
  );
}

/** The place in the app, and how to go elsewhere. */
export function usePlace(): Place {
  const place = useContext(PlaceContext);
  if (!place) throw new Error('no place is provided above this component');
  return place;
}

/** Keeps the page from being left while a form has edits. */
export function useUnsaved(form: {
  readonly changed: readonly string[];
  save(): Promise<unknown>;
  drop(): void;
}): void {
  const { guard } = usePlace();
  const { changed, save, drop } = form;
  const isDirty = changed.length > 0;
  useEffect(() => {
    guard(isDirty ? { save: async () => (await save()) !== undefined, drop } : undefined);
    return () => guard(undefined);
  }, [guard, isDirty, save, drop]);
}
