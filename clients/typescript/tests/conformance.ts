// What `rovett conformance` starts: an application that uses this client, and tells what it sees (docs/conformance/README.md).
import { createInterface } from 'node:readline';
import { connect, type RovettError } from '../src/index.js';

const tell = (event: object): void => console.log(JSON.stringify(event));
const failing = new Set<string>();
let tokens = 0;

const live = connect({
  url: process.env.ROVETT_URL ?? '',
  token: () => `conformance.token.${++tokens}`,
  device: 'bridge-tablet',
  retryMs: { min: 20, max: 200 },
  report: () => undefined,
});
live.on('*', ({ id, title }) => {
  if (failing.delete(id ?? '')) throw new Error('as it was told to');
  tell({ handled: { id, title } });
});
live.onChange((change) => tell(change.kind === 'gap' ? { gap: change } : { change }));
live.totals.subscribe(() => tell({ totals: live.totals.value }));
live.state.subscribe(() => tell({ state: live.state.value }));

createInterface({ input: process.stdin }).on('line', (line) => {
  const act = JSON.parse(line);
  if (act.fail) failing.add(act.fail);
  if (act.subscribe)
    live.subscribe(act.subscribe).then(
      () => tell({ result: { done: 'subscribe' } }),
      (error: RovettError) => tell({ result: { refused: error.problem.type.split(':').at(-1) } }),
    );
});
tell({ can: ['totals', 'state', 'fail', 'subscribe'] });
