import type { FileValue } from '@koinon/core';
import { useRows } from '@koinon/react';
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
import { addPhoto, type Photos, photosOf, type Way, wayOf } from '../photos.ts';
import { useReplica } from '../replica.ts';
import { offerUndo, sayError } from '../undo.tsx';

/** The photos of the book, once they are loaded. */
function usePhotos(): Photos | undefined {
  const replica = useReplica();
  const [photos, setPhotos] = useState<Photos>();
  useEffect(() => {
    photosOf(replica).then(setPhotos, sayError);
  }, [replica]);
  return photos;
}

/** The address of a content while it is shown; undefined until it is there. */
function useContent(photos: Photos | undefined, file: FileValue | undefined): string | undefined {
  const [url, setUrl] = useState<string>();
  useEffect(() => {
    if (photos === undefined || file === undefined) return;
    let release: (() => void) | undefined;
    let isOver = false;
    let isAsking = false;
    const show = async () => {
      if (isAsking || release !== undefined) return;
      isAsking = true;
      // Until it has come, it is looked for again when anything about a photo changes.
      const [state] = await photos.states([file]);
      const isThere = state?.at === 'here' || state?.at === 'server';
      const found = isThere ? await photos.fileUrl(file).catch(() => undefined) : undefined;
      isAsking = false;
      if (found === undefined) return;
      if (isOver) return found.release();
      release = found.release;
      setUrl(found.url);
    };
    void show();
    const stop = photos.subscribe(() => void show());
    return () => {
      isOver = true;
      stop();
      release?.();
      setUrl(undefined);
    };
  }, [photos, file]);
  return url;
}

/** Where a picture is. */
function useWay(
  photos: Photos | undefined,
  picture: FileValue,
): { readonly way: Way; readonly part: number } | undefined {
  const [way, setWay] = useState<{ readonly way: Way; readonly part: number }>();
  useEffect(() => {
    if (photos === undefined) return;
    let isOver = false;
    const look = () => void wayOf(photos, picture).then((found) => isOver || setWay(found));
    look();
    const stop = photos.subscribe(look);
    return () => {
      isOver = true;
      stop();
    };
  }, [photos, picture]);
  return way;
}

const words: Readonly<Record<Way, string>> = {
  sent: 'Sent',
  waits: 'Not sent yet',
  sending: 'Sending',
  'on the server': 'On the server',
  'on its way': 'On its way',
};

/** The photos of a visit, with a way to take more. */
export function VisitPhotos({ visit }: { readonly visit: string }) {
  const replica = useReplica();
  const photos = usePhotos();
  const { rows } = useRows(replica, { from: 'photo', where: { visit }, order: 'at' });
  const [shown, setShown] = useState<FileValue>();
  const take = async (pictures: readonly File[]) => {
    try {
      for (const picture of pictures) await addPhoto(replica, visit, picture);
    } catch (error) {
      sayError(error);
    }
  };
  const remove = async (id: string) => {
    try {
      await replica.delete('photo', id);
      offerUndo(replica, 'The photo was deleted.');
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
      {rows.length === 0 && <Text c="dimmed">No photos yet.</Text>}
      <SimpleGrid cols={{ base: 2, sm: 4 }}>
        {rows.map((photo) => (
          <Photo
            key={photo.id}
            photos={photos}
            preview={photo.preview}
            picture={photo.picture}
            onOpen={() => setShown(photo.picture)}
            onRemove={() => void remove(photo.id)}
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
  const url = useContent(photos, preview);
  const way = useWay(photos, picture);
  const told = way && `${words[way.way]}${way.way === 'sending' ? ` ${Math.round(way.part * 100)} %` : ''}`;
  const Icon = way?.way === 'sent' || way?.way === 'on the server' ? IconCheck : IconClock;
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
          <Text size="sm">{told ?? '…'}</Text>
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
  const url = useContent(photos, picture);
  return url ? (
    <Image src={url} alt="The photo as it was taken" fit="contain" mah="70dvh" />
  ) : (
    <Text>It is fetched.</Text>
  );
}
