import { connectTab } from '@koinon/client/browser';
import { apiary } from './schema.ts';

const worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module' });
const replica = await connectTab(worker, apiary);
const [form, list, status] = ['form', 'ul', '[role=status]'].map((name) => document.querySelector(name)) as [
  HTMLFormElement,
  HTMLUListElement,
  HTMLElement,
];

for (const button of form.querySelectorAll('button')) button.disabled = false; // the database is open
form.onsubmit = async (event) => {
  event.preventDefault();
  try {
    await replica.insert('hive', { mark: String(new FormData(form).get('mark')) });
    form.reset();
  } catch (error) {
    status.textContent = (error as Error).message; // says which value does not fit, and why
  }
};

// The list follows the data: this tab's edits, another tab's, and what the server brings.
replica.live({ from: 'hive', order: 'mark' }).subscribe(({ rows }) => {
  list.replaceChildren(
    ...rows.map(({ id, mark, frames }) => {
      const item = document.createElement('li');
      const more = document.createElement('button');
      more.textContent = `${mark}: ${frames} frames, one more`;
      more.onclick = () => replica.add('hive', id, 'frames');
      item.append(more);
      return item;
    }),
  );
});

replica.syncState().subscribe(({ rows: [state] }) => {
  document.title = state === undefined ? 'Apiary' : `Apiary (${state.phase}, ${state.pending} to send)`;
});
