import Table from 'cli-table3';
import { Command } from 'commander';
import { browserRows } from './browser.ts';
import { conflictRows } from './conflicts.ts';
import { hostileRows } from './hostile.ts';
import { localRows } from './local.ts';
import { type Measured, measure } from './measure.ts';
import { realtimeRows } from './realtime.ts';
import { scopeRows } from './scopes.ts';
import { syncRows } from './sync.ts';
import { trackingRows } from './tracking.ts';

// Speed as ratios to a floor measured in the same run. A name chooses the rows that begin with it.
const { args, json } = (() => {
  const command = new Command('bench')
    .argument('[rows...]', 'rows to run; all that begin with a name given')
    .option('--json', 'print one JSON array')
    .parse();
  return { args: command.args, json: command.opts<{ json?: boolean }>().json === true };
})();

const rows = [
  ...localRows,
  ...syncRows,
  ...trackingRows,
  ...conflictRows,
  ...realtimeRows,
  ...scopeRows,
  ...hostileRows,
  ...browserRows,
];
const chosen = rows.filter(
  ({ row }) => args.length === 0 || args.some((name) => row === name || row.startsWith(`${name}-`)),
);
if (chosen.length === 0) {
  console.error(`No such row. There are: ${rows.map(({ row }) => row).join(', ')}`);
  process.exit(2);
}
const results: Measured[] = [];
for (const row of chosen) {
  if (!json) process.stderr.write(`${row.row} … `);
  const measured = await measure(row);
  results.push(measured);
  if (!json) process.stderr.write(`${measured.ratio} ${measured.holds ? '' : '(misses)'}\n`);
}
if (json) console.log(JSON.stringify(results, null, 2));
else {
  const table = new Table({
    head: ['row', 'unit', 'floor', 'koinon', 'ratio', 'reach', 'holds'],
    style: { head: ['bold'], compact: true },
  });
  for (const { row, unit, floor, koinon, ratio, reach, holds } of results)
    table.push([row, unit, floor, koinon, ratio, reach, reach === '-' ? '-' : holds ? 'yes' : 'no']);
  console.log(table.toString());
}
