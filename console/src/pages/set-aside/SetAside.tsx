import { Button, Checkbox, JsonInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useLocation } from 'wouter';
import { api } from '../../api/door';
import { ago, length, many } from '../../api/times';
import type { SetAside as Aside } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Ask } from '../../look/Ask';
import { Glyph } from '../../look/Glyph';
import { Plank } from '../../look/Plank';
import { Asked, Empty, Failed } from '../../look/States';
import table from '../../look/Table.module.css';
import styles from './SetAside.module.css';

const most = 1000;
const atOnce = 50;
const kinds: Record<Aside['kind'], string> = {
  event: 'event',
  intake: 'received by an intake',
  gathering: 'gathered notification',
  otherwise: 'deadline’s otherwise',
  due: 'due work',
};

interface Retried {
  done: number;
  failed: number;
}

/** Everything that failed and waits for somebody: why, and what can be done. */
export function SetAside({ number }: { number?: string }) {
  const { space, mayOperate } = useHere();
  const list = useQuery({
    queryKey: [space, 'set-aside'],
    queryFn: () => api(space).get<{ items: Aside[]; count: number }>(`/v1/set-aside?limit=${most}`),
    refetchInterval: 5000,
    enabled: mayOperate,
  });
  if (!mayOperate) {
    return (
      <Plank tone="open">
        <h1>Set aside</h1>
        <p>This page shows the data of events, and only to operators who may operate.</p>
      </Plank>
    );
  }
  return (
    <Asked query={list}>
      {({ items, count }) => {
        const chosen = items.find((a) => String(a.number) === number);
        return (
          <>
            <Verdict items={items} count={count} />
            {number && (chosen ? <One key={chosen.number} aside={chosen} /> : <Gone number={number} />)}
            {items.length > 0 && <All all={items} />}
          </>
        );
      }}
    </Asked>
  );
}

function Verdict({ items: [oldest], count }: { items: Aside[]; count: number }) {
  return (
    <Plank tone="open">
      <h1>{count === 0 ? 'Nothing is set aside.' : `${many(count, 'thing needs', 'things need')} you.`}</h1>
      <p className={styles.lead}>
        {oldest
          ? `The oldest has waited for ${length(Date.now() - Date.parse(oldest.time))}. Fix the cause and retry, or drop it.`
          : 'What would fail again, such as an event without a value that its rule needs, waits here until somebody retries or drops it.'}
        {count > most && ` The oldest ${most} are listed.`}
      </p>
    </Plank>
  );
}

function Gone({ number }: { number: string }) {
  return (
    <Plank>
      <Empty title={`Number ${number} is not set aside any more`}>
        It was retried or dropped. <Link href="/set-aside">Show all</Link>
      </Empty>
    </Plank>
  );
}

function All({ all }: { all: Aside[] }) {
  const { space } = useHere();
  const queries = useQueryClient();
  const [ticked, setTicked] = useState<ReadonlySet<number>>(new Set());
  const [drops, setDrops] = useState(false);
  const [progress, setProgress] = useState<{ at: number; of: number } | null>(null);
  const chosen = all.filter((a) => ticked.has(a.number)).map((a) => a.number);
  const retry = useMutation({
    // In parts, to show the progress.
    mutationFn: async (numbers: number[]) => {
      const sum: Retried = { done: 0, failed: 0 };
      for (let from = 0; from < numbers.length; from += atOnce) {
        setProgress({ at: from, of: numbers.length });
        const part = await api(space).send<Retried>('POST', '/v1/set-aside/retry', {
          numbers: numbers.slice(from, from + atOnce),
        });
        sum.done += part.done;
        sum.failed += part.failed;
      }
      return sum;
    },
    onSettled: () => {
      setProgress(null);
      setTicked(new Set());
      return queries.invalidateQueries({ queryKey: [space] });
    },
  });
  const toggle = (number: number) =>
    setTicked((old) => {
      const next = new Set(old);
      if (!next.delete(number)) next.add(number);
      return next;
    });
  return (
    <Plank>
      <div className={styles.bulk}>
        <Button disabled={chosen.length === 0} loading={retry.isPending} onClick={() => retry.mutate(chosen)}>
          Retry {chosen.length > 0 && chosen.length}
        </Button>
        <Button variant="default" disabled={chosen.length === 0 || retry.isPending} onClick={() => setDrops(true)}>
          Drop …
        </Button>
        {progress && (
          <progress aria-label="Retried" value={progress.at} max={progress.of}>
            {progress.at} of {progress.of}
          </progress>
        )}
        <span role="status">
          {retry.data && `${retry.data.done} done, ${retry.data.failed} failed again.`}
          {retry.error && <Failed error={retry.error} />}
        </span>
      </div>
      <table className={table.table}>
        <thead>
          <tr>
            <th className={table.tight}>
              <Checkbox
                aria-label="All"
                checked={chosen.length === all.length}
                indeterminate={chosen.length > 0 && chosen.length < all.length}
                onChange={(e) => setTicked(new Set(e.currentTarget.checked ? all.map((a) => a.number) : []))}
              />
            </th>
            <th>What and why</th>
            <th className={table.wide}>Kind</th>
            <th className={table.number}>Since</th>
          </tr>
        </thead>
        <tbody>
          {all.map((aside) => (
            <tr key={aside.number}>
              <td className={table.tight}>
                <Checkbox
                  aria-label={`Number ${aside.number}`}
                  checked={ticked.has(aside.number)}
                  onChange={() => toggle(aside.number)}
                />
              </td>
              <th scope="row">
                <Link href={`/set-aside/${aside.number}`}>{nameOf(aside)}</Link>
                <small>{aside.reason}</small>
              </th>
              <td className={`${table.wide} ${table.dim}`}>{kinds[aside.kind]}</td>
              <td className={`${table.number} ${table.dim}`} title={aside.time}>
                {ago(aside.time)}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {drops && (
        <Ask
          title={`Drop ${many(chosen.length, 'thing', 'things')}?`}
          verb={`Drop ${chosen.length}`}
          act={() => api(space).send('POST', '/v1/set-aside/drop', { numbers: chosen })}
          onClose={() => setDrops(false)}
        >
          What they were to send is never sent. This cannot be undone.
        </Ask>
      )}
    </Plank>
  );
}

interface EventDetail {
  event?: { id: string; source: string; type: string; data?: unknown };
  rules?: { rule: string; reason: string }[];
  intake?: string;
  content?: unknown;
  text?: string;
}

function nameOf(aside: Aside): string {
  const { event, intake } = aside.detail as EventDetail;
  if (intake) return `${intake}, number ${aside.number}`;
  return event ? `${event.type} ${event.id}` : `Number ${aside.number}`;
}

/** What may be edited before it is tried again, and the member of the request that it goes into. */
function editable(aside: Aside): { start: string; as: 'data' | 'event'; label: string } | null {
  const { event, intake, content, text } = aside.detail as EventDetail;
  if (event) {
    const start = JSON.stringify(event.data ?? null, null, 2);
    return { start, as: 'data', label: 'Event data (edit it if it is the cause)' };
  }
  if (!intake) return null;
  const start = content === undefined ? (text ?? '') : JSON.stringify(content, null, 2);
  return { start, as: 'event', label: 'What it received (edit it into an event: CloudEvents in JSON)' };
}

function One({ aside }: { aside: Aside }) {
  const { space } = useHere();
  const queries = useQueryClient();
  const [, go] = useLocation();
  const { event, rules } = aside.detail as EventDetail;
  const edit = editable(aside);
  const [data, setData] = useState(edit?.start ?? '');
  const [drops, setDrops] = useState(false);
  const changed = edit !== null && data !== edit.start;
  const retry = useMutation({
    mutationFn: () =>
      api(space).send<{ done: boolean; number: number }>(
        'POST',
        `/v1/set-aside/${aside.number}/retry`,
        changed ? { [edit.as]: JSON.parse(data) } : {},
      ),
    onSuccess: ({ done, number }) => {
      if (!done) go(`/set-aside/${number}`, { replace: true }); // what fails again gets a new number
      return queries.invalidateQueries({ queryKey: [space] });
    },
  });
  return (
    <Plank>
      <h2>{nameOf(aside)}</h2>
      <p className={styles.reason}>
        <Glyph sign="aside" /> {aside.reason}
      </p>
      {edit ? (
        <>
          {event && (
            <p className={styles.from}>
              From <code>{event.source}</code>.{' '}
              {rules && rules.length > 1 && `${rules.length} rules failed: ${rules.map((r) => r.rule).join(', ')}.`}{' '}
              Only the rules that failed are carried out again.
            </p>
          )}
          <JsonInput
            label={edit.label}
            value={data}
            onChange={setData}
            autosize
            minRows={4}
            maxRows={20}
            validationError="This is not valid JSON."
          />
        </>
      ) : (
        <pre className={styles.detail}>{JSON.stringify(aside.detail, null, 2)}</pre>
      )}
      {retry.error && <Failed error={retry.error} />}
      <div className={styles.bulk}>
        <Button loading={retry.isPending} onClick={() => retry.mutate()}>
          {changed ? `Retry with this ${edit.as}` : 'Retry'}
        </Button>
        <Button variant="default" onClick={() => setDrops(true)}>
          Drop …
        </Button>
        <Link href="/set-aside">Show all</Link>
      </div>
      {drops && (
        <Ask
          title={`Drop ${nameOf(aside)}?`}
          verb="Drop it"
          act={() => api(space).send('DELETE', `/v1/set-aside/${aside.number}`)}
          onClose={() => setDrops(false)}
        >
          What it was to send is never sent. This cannot be undone.
        </Ask>
      )}
    </Plank>
  );
}
