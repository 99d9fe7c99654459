import { Button, SegmentedControl, Select, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useInfiniteQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useMemo, useState } from 'react';
import { Link, useSearchParams } from 'wouter';
import { api, away, Refused } from '../../api/door';
import { many, when } from '../../api/times';
import type { Listed, LiveRow } from '../../api/types';
import { useFacts, useHere } from '../../frame/facts';
import { Glyph, type Sign } from '../../look/Glyph';
import { Rings } from '../../look/Rings';
import { ListTitle, rowStyle, Split } from '../../look/Split';
import { Empty, Failed, Loading } from '../../look/States';
import styles from './Activity.module.css';
import { Events } from './Events';
import { Story } from './Story';
import { useLive } from './useLive';

const states = ['stored', 'taken', 'withdrawn', 'replaced', 'expired'];
const ended: Partial<Record<Listed['state'], Sign>> = {
  withdrawn: 'withdrawn',
  replaced: 'replaced',
  expired: 'expired',
};

interface Filter {
  type: string;
  address: string;
  state: string | null;
  text: string;
}

const anything: Filter = { type: '', address: '', state: null, text: '' };

const queryOf = (filter: Filter) =>
  Object.entries(filter)
    .filter(([, value]) => value)
    .map(([name, value]) => `${name}=${encodeURIComponent(value as string)}&`)
    .join('');

/** Notifications as they are sent, with the story of the chosen one. */
export function Activity({ id }: { id?: string }) {
  const [params, setParams] = useSearchParams();
  const show = params.get('show') === 'events' ? 'events' : 'notifications';
  const setShow = (next: string) => setParams(next === 'events' ? { show: next } : {}, { replace: true });
  return (
    <Split
      isOpen={id !== undefined}
      names={{ list: 'Notifications', detail: 'Story' }}
      back={{ href: '/activity', name: 'Activity' }}
      list={show === 'events' ? <EventFlow chosen={id} onShow={setShow} /> : <Flow chosen={id} onShow={setShow} />}
      detail={
        id ? (
          <Story key={id} id={id} />
        ) : (
          <>
            <h2>No notification is chosen</h2>
            <p>Choose one to see its story: whom it was for, who has it, when, and on which device.</p>
          </>
        )
      }
    />
  );
}

interface FlowProps {
  chosen?: string;
  onShow: (what: string) => void;
}

function Which({ value, onShow }: { value: string; onShow: FlowProps['onShow'] }) {
  return (
    <SegmentedControl
      size="xs"
      aria-label="What is listed"
      data={[
        { value: 'notifications', label: 'Notifications' },
        { value: 'events', label: 'Events' },
      ]}
      value={value}
      onChange={onShow}
    />
  );
}

function EventFlow({ chosen, onShow }: FlowProps) {
  return (
    <>
      <div className={styles.head}>
        <ListTitle isOpen={chosen !== undefined}>Activity</ListTitle>
        <Which value="events" onShow={onShow} />
      </div>
      <Events />
    </>
  );
}

function Flow({ chosen, onShow }: FlowProps) {
  const { space } = useHere();
  const [params, setParams] = useSearchParams();
  const [filter, setFilter] = useState<Filter>(() => ({
    type: params.get('type') ?? '',
    address: params.get('address') ?? '',
    state: params.get('state'),
    text: params.get('text') ?? '',
  }));
  const [settled] = useDebouncedValue(filter, 250);
  // So that it can be sent to a colleague, and is there after a reload.
  const asked = queryOf(settled).slice(0, -1);
  useEffect(() => setParams(asked, { replace: true }), [asked, setParams]);
  const [heldAt, setHeldAt] = useState<number | null>(null);
  const { view, lostSince } = useLive(space);
  const queries = useQueryClient();
  const queryKey = [space, 'activity', settled];
  const list = useInfiniteQuery({
    queryKey,
    initialPageParam: `/v1/notifications?${queryOf(settled)}limit=${page}`,
    queryFn: ({ pageParam }) => api(space).page<{ notifications: Listed[] }>(pageParam),
    getNextPageParam: (page) => page.next,
  });
  const rows = useMemo(() => list.data?.pages.flatMap((p) => p.value.notifications) ?? [], [list.data]);
  const live = useMemo(() => new Map(view?.notifications.map((n) => [n.id, n])), [view]);

  // Newer ones are fetched once a second at most, and not after older ones were loaded: the list would move while it is read.
  const newest = view?.notifications[0]?.position ?? 0;
  const shownTo = Math.max(rows[0]?.position ?? 0, heldAt ?? 0);
  const isHeld = heldAt !== null || (list.data?.pages.length ?? 0) > 1;
  const [askedFor, setAskedFor] = useState(0);
  useEffect(() => {
    if (isHeld || list.isFetching || newest <= Math.max(shownTo, askedFor)) return;
    const soon = setTimeout(() => {
      setAskedFor(newest);
      void list.refetch();
    }, 1000);
    return () => clearTimeout(soon);
  }, [isHeld, list.isFetching, list.refetch, newest, shownTo, askedFor]);
  const resume = () => {
    setHeldAt(null);
    queries.setQueryData<typeof list.data>(
      queryKey,
      (all) => all && { pages: all.pages.slice(0, 1), pageParams: all.pageParams.slice(0, 1) },
    );
    void list.refetch();
  };
  const heldBack = view?.notifications.filter((n) => n.position > shownTo).length ?? 0;

  return (
    <>
      <div className={styles.head}>
        <ListTitle isOpen={chosen !== undefined}>Activity</ListTitle>
        <Which value="notifications" onShow={onShow} />
        <span className={styles.held}>
          {isHeld &&
            heldBack > 0 &&
            `held back: ${heldBack}${heldBack === view?.notifications.length ? ' or more' : ''}`}
        </span>
        {isHeld ? (
          <Button variant="default" onClick={resume} leftSection={<Glyph sign="live" />}>
            Resume
          </Button>
        ) : (
          <Button variant="default" onClick={() => setHeldAt(newest)} leftSection={<Glyph sign="silent" />}>
            Hold
          </Button>
        )}
      </div>
      <Sentence filter={filter} onChange={setFilter} />
      <Sampled />
      <div className={styles.columns} aria-hidden="true">
        <span>Stored</span>
        <span>One ring a person: the fuller, the further</span>
      </div>
      {lostSince !== null && (
        <Failed error={new Refused({ ...away, detail: 'The console is trying again.' })} shownAt={lostSince} />
      )}
      {list.error && <Failed error={list.error} shownAt={list.dataUpdatedAt} onRetry={() => void list.refetch()} />}
      {list.isPending && <Loading rows={9} />}
      <ol>
        {rows.map((row) => (
          <Row key={row.id} row={row} live={live.get(row.id)} isChosen={row.id === chosen} />
        ))}
      </ol>
      {list.isSuccess && rows.length === 0 && <Nothing filter={settled} onClear={() => setFilter(anything)} />}
      {list.hasNextPage && (
        <Button variant="default" mt="md" loading={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
          {rows.length === 0 ? 'Look further back' : 'Load older'}
        </Button>
      )}
    </>
  );
}

const page = 50;

/** More pass than a list that is read once a second can show: it says so. */
function Sampled() {
  const passed = useFacts().data?.lastMinute ?? 0;
  if (passed <= page * 60) return null;
  return (
    <p className={styles.held} role="status">
      Sampled: {passed.toLocaleString('en-GB')} passed within the last minute; the newest {page} are shown once a
      second. The others are in the list once it is held, or found by a filter.
    </p>
  );
}

function Sentence({ filter, onChange }: { filter: Filter; onChange: (filter: Filter) => void }) {
  return (
    <search className={styles.sentence}>
      <span>Of</span>
      <TextInput
        aria-label="Type"
        placeholder="any type"
        w={126}
        value={filter.type}
        onChange={(e) => onChange({ ...filter, type: e.currentTarget.value })}
      />
      <span>to</span>
      <TextInput
        aria-label="Address"
        placeholder="anyone"
        w={118}
        value={filter.address}
        onChange={(e) => onChange({ ...filter, address: e.currentTarget.value })}
      />
      <span>in</span>
      <Select
        aria-label="State"
        placeholder="any state"
        w={116}
        data={states}
        value={filter.state}
        onChange={(state) => onChange({ ...filter, state })}
        clearable
      />
      <TextInput
        aria-label="Text"
        placeholder="with the text …"
        w={122}
        value={filter.text}
        onChange={(e) => onChange({ ...filter, text: e.currentTarget.value })}
      />
    </search>
  );
}

function Nothing({ filter, onClear }: { filter: Filter; onClear: () => void }) {
  const given = Object.entries(filter).filter(([, value]) => value);
  if (given.length === 0) {
    return (
      <Empty title="Nothing was sent yet">
        <p>
          Send one: <code>rovett send --to user:mara --type hello --title Hello</code>
        </p>
      </Empty>
    );
  }
  return (
    <Empty title={`Nothing with ${given.map(([name, value]) => `${name} ${value}`).join(' and ')}`}>
      <Button variant="default" size="xs" mt="xs" onClick={onClear}>
        Show all
      </Button>
    </Empty>
  );
}

function Row({ row, live, isChosen }: { row: Listed; live?: LiveRow; isChosen: boolean }) {
  const state = live?.state ?? row.state;
  const sign = ended[state as Listed['state']];
  const progress = {
    of: row.for,
    read: Math.max(row.people.read, live?.read ?? 0),
    handled: row.people.handled,
    received: Math.max(row.people.received, live?.received ?? 0),
    dispatched: live?.dispatched,
  };
  return (
    <li>
      <Link
        href={`/activity/${row.id}`}
        className={`${rowStyle} ${styles.row} ${sign ? styles.gone : ''}`}
        aria-current={isChosen || undefined}
        data-id={row.id}
      >
        <time dateTime={row.time} title={row.time}>
          {when(row.time)}
        </time>
        <b>{row.title}</b>
        <span className={styles.rings}>
          {sign ? <Glyph sign={sign} size={14} /> : state === 'taken' ? <Glyph sign="taken" size={14} /> : null}
          {!sign && <Rings progress={state === 'taken' ? withoutTaker(progress) : progress} />}
        </span>
        <span className={styles.sub}>
          {row.type} · {row.to.join(', ')}
        </span>
        <span className={styles.count}>{wordOf(state, row, progress)}</span>
      </Link>
    </li>
  );
}

/** The taker has a sign of their own, and no ring. */
const withoutTaker = <P extends { of: number; read: number; handled: number; received: number }>(progress: P): P => ({
  ...progress,
  of: progress.of - 1,
  read: Math.max(0, progress.read - 1),
  handled: Math.max(0, progress.handled - 1),
  received: Math.max(0, progress.received - 1),
});

function wordOf(
  state: string,
  row: Listed,
  { of, read, received }: { of: number; read: number; received: number },
): string {
  if (state === 'taken') return row.taken ? `taken by ${row.taken.by}` : 'taken';
  if (state !== 'stored') return state;
  if (of === 0) return row.to.every((to) => to.startsWith('topic:')) ? 'in no inbox' : 'for nobody yet';
  if (of === 1) return read > 0 ? 'read' : received > 0 ? 'received' : 'not received';
  return read >= of ? `read by all ${of}` : `${received} of ${many(of, 'person', 'people')} received`;
}
