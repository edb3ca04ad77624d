import cluster, { type Worker } from 'node:cluster';

// The server processes of the load behind one port. `restart` ends one after the other, each once the one before is there again.

const [file, count, ...args] = process.argv.slice(2) as [string, string, ...string[]];
// Each process takes connections by itself. Handed out one by one, they would wait here for each turn of a busy process, in thousands.
cluster.schedulingPolicy = cluster.SCHED_NONE;
cluster.setupPrimary({ exec: file, args });

const started = () =>
  new Promise<Worker>((done) => {
    const worker = cluster.fork();
    worker.on('message', (message) => message === 'ready' && done(worker));
  });

let workers: Worker[] = [];
for (let n = 0; n < Number(count); n++) workers.push(await started());

async function restart(): Promise<void> {
  for (const worker of workers) {
    const ended = new Promise<void>((done) => worker.once('exit', () => done()));
    worker.process.kill('SIGTERM');
    await ended;
    workers = [...workers.filter((each) => each !== worker), await started()];
  }
}

process.on('message', (message) => {
  if (message === 'restart') void restart().then(() => process.send?.('restarted'));
});
process.once('disconnect', () => process.exit());
process.send?.('ready');
