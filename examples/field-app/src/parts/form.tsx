import type { RowStatus } from '@koinon/core';
import { type DraftedForm, useRows } from '@koinon/react';
import { Alert, Button, Group, Stack } from '@mantine/core';
import type { ReactNode } from 'react';
import { useUnsaved } from '../leaving.tsx';
import { useReplica } from '../replica.ts';

type AnyForm<Row = unknown> = Pick<DraftedForm<Row>, 'problems' | 'changed' | 'overtaken' | 'drop' | 'save'>;

/** A form whose problems are also those for which the server refused the row, until the column is edited. */
export function useRefusals<F extends AnyForm>(form: F, table: 'site' | 'hive' | 'visit', id: string | undefined): F {
  const replica = useReplica();
  const { rows } = useRows(
    replica,
    id === undefined ? undefined : { from: table, where: { id } as never, join: { sync: 'status' } },
  );
  const refused = (rows as readonly { readonly sync: RowStatus }[])[0]?.sync.problems ?? [];
  const open = refused.filter(({ column }) => column === undefined || !form.changed.includes(column));
  return open.length === 0 ? form : { ...form, problems: [...form.problems, ...open] };
}

/** The mistake in a column, for its field. */
export function problemOf(form: AnyForm, column: string): string | undefined {
  const problem = form.problems.find((each) => each.column === column);
  if (problem === undefined) return undefined;
  if (problem.code === 'value-missing') return 'Please fill this in.';
  if (problem.code === 'duplicate-value') return 'There is another one of that name.';
  return problem.rule === undefined ? problem.message : `This cannot be: ${problem.rule}.`;
}

/** A form over a draft: its fields, what is wrong with the whole, and what to do with the edits. */
export function DraftForm<Row>(props: {
  readonly form: AnyForm<Row>;
  readonly fields: readonly string[];
  readonly onSaved: (saved: Row) => void;
  readonly children: ReactNode;
}) {
  const { form, fields } = props;
  useUnsaved(form);
  const others = form.problems.filter(({ column }) => column === undefined || !fields.includes(column));
  const save = async () => {
    const saved = await form.save();
    if (saved !== undefined) props.onSaved(saved);
  };
  return (
    <form
      noValidate
      onSubmit={(event) => {
        event.preventDefault();
        void save();
      }}
    >
      <Stack>
        {form.overtaken.length > 0 && (
          <Alert color="orange" title="Changed meanwhile">
            {form.overtaken.map(({ column, is }) => `${column} is now ${String(is ?? 'empty')}`).join('; ')}. Saving
            keeps yours.
          </Alert>
        )}
        {props.children}
        {others.length > 0 && (
          <Alert color="red" title="This is wrong">
            {others.map(({ message }) => message).join(' ')}
          </Alert>
        )}
        <Group grow>
          <Button type="submit" disabled={form.changed.length === 0}>
            Save
          </Button>
          <Button variant="default" onClick={form.drop} disabled={form.changed.length === 0}>
            Drop edits
          </Button>
        </Group>
      </Stack>
    </form>
  );
}
