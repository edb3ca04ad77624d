import { readFileSync } from 'node:fs';
import Table from 'cli-table3';
import { Command } from 'commander';
import { actionRows } from './actions.ts';
import { browserRows } from './browser.ts';
import { conflictRows } from './conflicts.ts';
import { fileRows } from './files.ts';
import { holdingRows } from './holdings.ts';
import { hostileRows } from './hostile.ts';
import { localRows } from './local.ts';
import { type Measured, measure } from './measure.ts';
import { queryRows } from './queries.ts';
import { realtimeRows } from './realtime.ts';
import { scopeRows } from './scopes.ts';
import { syncRows } from './sync.ts';
import { trackingRows } from './tracking.ts';

// Speed as ratios to a floor measured in the same run. A name chooses the rows that begin with it.

/** The rows that decide, at the sizes that decide: what is run where nothing is chosen. */
const decisive = [
  ...['write-1000', 'write-power-loss', 'bulk-100000', 'read-100000', 'scan-100000', 'live-1000'],
  ...['sync-download-100000', 'sync-upload', 'sync-upload-hundreds', 'sync-upload-latest'],
  ...['sync-tracked-20000', 'sync-tracked-1', 'direct-write-sqlite', 'direct-write-postgres'],
  ...['rebase-10000', 'live-hop', 'live-hop-rested', 'fan-out-1000', 'burst-10000', 'browser-size'],
];

const { args, json, full, compare } = (() => {
  const command = new Command('bench')
    .argument('[rows...]', 'rows to run; all that begin with a name given')
    .option('--json', 'print one JSON array')
    .option('--full', 'run all rows; without it those that decide')
    .option('--compare <file>', 'print the change against an earlier run, which --json has printed')
    .parse();
  return { args: command.args, ...command.opts<{ json?: boolean; full?: boolean; compare?: string }>() };
})();

const rows = [
  ...localRows,
  ...syncRows,
  ...trackingRows,
  ...conflictRows,
  ...realtimeRows,
  ...scopeRows,
  ...hostileRows,
  ...fileRows,
  ...holdingRows,
  ...actionRows,
  ...queryRows,
  ...browserRows,
];
const chosen = rows.filter(
  ({ row }) =>
    (args.length === 0 && (full || decisive.includes(row))) ||
    args.some((name) => row === name || row.startsWith(`${name}-`)),
);
if (chosen.length === 0) {
  console.error(`No such row. There are: ${rows.map(({ row }) => row).join(', ')}`);
  process.exit(2);
}
const before = new Map(
  compare === undefined
    ? []
    : (JSON.parse(readFileSync(compare, 'utf8')) as Measured[]).map((measured) => [measured.row, measured]),
);
const began = performance.now();
const results: Measured[] = [];
for (const row of chosen) {
  if (!json) process.stderr.write(`${row.row} … `);
  const measured = await measure(row);
  results.push(measured);
  if (!json) process.stderr.write(`${measured.ratio} ${measured.holds ? '' : '(misses)'} (${measured.took} s)\n`);
}
if (json) console.log(JSON.stringify(results, null, 2));
else {
  const table = new Table({
    head: [
      ...['row', 'unit', 'floor', 'koinon', 'ratio', ...(compare ? ['before'] : [])],
      ...['processor', 'reach', 'holds'],
    ],
    style: { head: ['bold'], compact: true },
  });
  for (const { row, unit, floor, koinon, ratio, processor, reach, holds } of results)
    table.push([
      ...[row, unit, floor, koinon, ratio, ...(compare ? [changeSince(before.get(row)?.ratio, ratio)] : [])],
      ...[processor ?? '-', reach, reach === '-' ? '-' : holds ? 'yes' : 'no'],
    ]);
  console.log(table.toString());
  console.log(`${results.length} rows in ${Math.round((performance.now() - began) / 1000)} s`);
}

/** A ratio of an earlier run, and by how much this one differs. */
function changeSince(earlier: number | undefined, now: number): string {
  if (earlier === undefined) return '-';
  const change = Math.round((now / earlier - 1) * 100);
  return `${earlier} (${change > 0 ? '+' : ''}${change} %)`;
}
