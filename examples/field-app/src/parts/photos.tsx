import type { FileValue } from '@koinon/core';
import { useFile, useRows } from '@koinon/react';
import {
  ActionIcon,
  AspectRatio,
  FileButton,
  Group,
  Image,
  Modal,
  Paper,
  SimpleGrid,
  Text,
  Title,
} from '@mantine/core';
import { IconCamera, IconCheck, IconClock, IconTrash } from '@tabler/icons-react';
import { useEffect, useState } from 'react';
import { attachPhotos, type Photos, photosOf, type TakenPhoto, takePhoto, wordsFor } from '../photos.ts';
import { useReplica } from '../replica.ts';
import { offerUndo, sayError } from '../undo.tsx';

/** The photos of the book, once they are loaded. */
export function usePhotos(): Photos | undefined {
  const replica = useReplica();
  const [photos, setPhotos] = useState<Photos>();
  useEffect(() => {
    photosOf(replica).then(setPhotos, sayError);
  }, [replica]);
  return photos;
}

/** The photos of a visit, with a way to take more. */
export function VisitPhotos({ visit }: { readonly visit: string }) {
  const replica = useReplica();
  const { rows } = useRows(replica, { from: 'photo', where: { visit }, order: 'at' });
  const remove = async (id: string) => {
    try {
      await replica.delete('photo', id);
      offerUndo(replica, 'The photo was deleted.');
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <PhotoSection
      photos={rows}
      onTaken={(taken) => attachPhotos(replica, visit, [taken])}
      onRemove={({ id }) => void remove(id)}
    />
  );
}

/** The photos of a visit that is not saved yet. They are on this device already. */
export function NewPhotos(props: {
  readonly taken: readonly TakenPhoto[];
  readonly onChange: (change: (taken: readonly TakenPhoto[]) => readonly TakenPhoto[]) => void;
}) {
  const { taken, onChange } = props;
  return (
    <PhotoSection
      photos={taken.map((photo) => ({ ...photo, id: photo.picture.id }))}
      onTaken={async (photo) => onChange((before) => [...before, photo])}
      onRemove={({ id }) => onChange((before) => before.filter(({ picture }) => picture.id !== id))}
    />
  );
}

type ShownPhoto = TakenPhoto & { readonly id: string };

function PhotoSection(props: {
  readonly photos: readonly ShownPhoto[];
  readonly onTaken: (photo: TakenPhoto) => Promise<void>;
  readonly onRemove: (photo: ShownPhoto) => void;
}) {
  const { photos: shownPhotos, onTaken, onRemove } = props;
  const replica = useReplica();
  const photos = usePhotos();
  const [shown, setShown] = useState<FileValue>();
  const take = async (pictures: readonly File[]) => {
    try {
      for (const picture of pictures) await onTaken(await takePhoto(replica, picture));
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <Paper withBorder p="md" component="section" aria-label="Photos">
      <Group justify="space-between" mb="sm">
        <Title order={2} size="h4">
          Photos
        </Title>
        <FileButton multiple accept="image/*" onChange={(pictures) => void take(pictures)}>
          {(button) => (
            <ActionIcon aria-label="Add photos" variant="filled" size={44} {...button}>
              <IconCamera />
            </ActionIcon>
          )}
        </FileButton>
      </Group>
      {shownPhotos.length === 0 && <Text c="dimmed">No photos yet.</Text>}
      <SimpleGrid cols={{ base: 2, sm: 4 }}>
        {shownPhotos.map((photo) => (
          <Photo
            key={photo.id}
            photos={photos}
            preview={photo.preview}
            picture={photo.picture}
            onOpen={() => setShown(photo.picture)}
            onRemove={() => onRemove(photo)}
          />
        ))}
      </SimpleGrid>
      <Modal opened={shown !== undefined} onClose={() => setShown(undefined)} title="Photo" size="xl" centered>
        <Large photos={photos} picture={shown} />
      </Modal>
    </Paper>
  );
}

interface PhotoProps {
  readonly photos: Photos | undefined;
  readonly preview: FileValue;
  readonly picture: FileValue;
  readonly onOpen: () => void;
  readonly onRemove: () => void;
}

/** One photo, small, with a word on where the large one is. */
function Photo({ photos, preview, picture, onOpen, onRemove }: PhotoProps) {
  const { url } = useFile(photos, preview);
  const { state } = useFile(photos, picture, { open: false });
  const Icon = state?.isSent ? IconCheck : IconClock;
  return (
    <Paper withBorder radius="md" style={{ overflow: 'hidden' }}>
      <AspectRatio ratio={4 / 3}>
        <button
          type="button"
          aria-label="Show the photo"
          onClick={onOpen}
          style={{ border: 0, padding: 0, cursor: 'pointer' }}
        >
          {url ? (
            <Image src={url} alt="" h="100%" w="100%" fit="cover" />
          ) : (
            <Text size="sm" c="dimmed">
              Not here yet
            </Text>
          )}
        </button>
      </AspectRatio>
      <Group justify="space-between" pl="xs" gap={4} wrap="nowrap">
        <Group gap={6} wrap="nowrap">
          <Icon size={16} style={{ flexShrink: 0 }} aria-hidden />
          <Text size="sm">{state === undefined ? '…' : wordsFor(state, picture)}</Text>
        </Group>
        <ActionIcon aria-label="Delete the photo" variant="subtle" color="red" onClick={onRemove}>
          <IconTrash size={18} />
        </ActionIcon>
      </Group>
    </Paper>
  );
}

/** A photo as it was taken. */
function Large({ photos, picture }: { readonly photos: Photos | undefined; readonly picture: FileValue | undefined }) {
  const { url, error } = useFile(photos, picture);
  return url ? (
    <Image src={url} alt="The photo as it was taken" fit="contain" mah="70dvh" />
  ) : (
    <Text>{error === undefined ? 'It is fetched.' : 'It cannot be fetched now.'}</Text>
  );
}
