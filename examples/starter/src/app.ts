import { connectTab } from '@koinon/client/browser';
import { apiary } from './schema.ts';

const worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module' });
const replica = await connectTab(worker, apiary);
const form = document.querySelector('form') as HTMLFormElement;
const list = document.querySelector('ul') as HTMLUListElement;
const status = document.querySelector('[role=status]') as HTMLElement;

/** Does what was asked, and says what went wrong. */
async function act(work: () => Promise<unknown>): Promise<void> {
  status.textContent = '';
  await work().catch((error: Error) => {
    status.textContent = error.message;
  });
}

const button = (label: string, work: () => Promise<unknown>) => {
  const made = document.createElement('button');
  made.textContent = label;
  made.onclick = () => act(work);
  return made;
};

form.onsubmit = (event) => {
  event.preventDefault();
  const mark = String(new FormData(form).get('mark'));
  void act(async () => {
    await replica.insert('hive', { mark });
    form.reset();
  });
};

// Drawn anew with every change, from this tab or another.
replica.live({ from: 'hive', order: 'mark' }).subscribe(({ rows }) => {
  list.replaceChildren(
    ...rows.map(({ id, mark, frames }) => {
      const item = document.createElement('li');
      const name = document.createElement('span');
      name.textContent = `${mark}: ${frames} frames`;
      item.append(
        name,
        button('One more', () => replica.add('hive', id, 'frames')),
        button('Delete', () => replica.delete('hive', id)),
      );
      return item;
    }),
  );
});

for (const made of form.querySelectorAll('button')) made.disabled = false;
const { problem } = await replica.storage();
if (problem !== null) status.textContent = `Nothing is kept: ${problem}`;
