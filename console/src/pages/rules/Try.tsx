import { Button, Select } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api } from '../../api/door';
import { many, when } from '../../api/times';
import type { Taken, Tried, TriedRule } from '../../api/types';
import { useHere } from '../../frame/facts';
import Editor from '../../look/Editor';
import { Glyph } from '../../look/Glyph';
import { Chip, Head } from '../../look/Plank';
import { Failed } from '../../look/States';
import styles from './Rules.module.css';

const sample = {
  specversion: '1.0',
  id: 'try-1',
  source: '/planning/1',
  type: 'engine.check.due',
  data: {},
};

const text = (event: unknown) => JSON.stringify(event, null, 2);

/** What an event would become: by the rules in effect, or by those in the editor. */
export function Try({ document }: { document: string | undefined }) {
  const { space, mayOperate } = useHere();
  const [event, setEvent] = useState(text(sample));
  const came = useQuery({
    queryKey: [space, 'events-came'],
    queryFn: () => api(space).get<{ events: Taken[] }>('/v1/events?limit=50'),
    refetchInterval: 15_000,
  });
  const trying = useMutation({
    mutationFn: () => api(space).send<Tried>('POST', '/v1/rules/try', { event: JSON.parse(event), document }),
  });
  const pick = (key: string | null) => {
    const found = came.data?.events.find((e) => keyOf(e) === key);
    if (!found) return;
    const { source, id, type, subject } = found;
    // Without its data, where that is not kept.
    setEvent(text(found.event ?? { specversion: '1.0', id, source, type, ...(subject && { subject }), data: {} }));
    trying.reset();
  };
  const isKept = came.data?.events.some((e) => e.event) ?? true;
  return (
    <>
      <Head
        title="Try an event"
        beside={
          document ? 'with the rules in the editor; nothing is sent' : 'with the rules in effect; nothing is sent'
        }
      />
      <div className={styles.pair}>
        <div>
          <Select
            label="One that came"
            placeholder={came.data?.events.length === 0 ? 'none came yet' : 'or write your own below'}
            data={(came.data?.events ?? []).map((e) => ({
              value: keyOf(e),
              label: `${when(e.time)} ${e.type} ${e.id}`,
            }))}
            onChange={pick}
            searchable
          />
          {!isKept && (came.data?.events.length ?? 0) > 0 && (
            <p className={styles.quiet}>
              Their data is not kept. The setting <code>keepEventData</code> keeps it from then on.
            </p>
          )}
          <div className={styles.event}>
            <Editor label="Event" language="json" value={event} onChange={setEvent} />
          </div>
          <Button variant="default" onClick={() => trying.mutate()} loading={trying.isPending} disabled={!mayOperate}>
            Try it
          </Button>
        </div>
        <section aria-label="What it becomes" aria-live="polite">
          {trying.error && (
            <Failed
              error={
                trying.error instanceof SyntaxError
                  ? new Error(`The event is not JSON: ${trying.error.message}`)
                  : trying.error
              }
            />
          )}
          {trying.data && <Outcome tried={trying.data} />}
          {!trying.data && !trying.error && (
            <p className={styles.quiet}>The finished text, as a receiver sees it, appears here.</p>
          )}
        </section>
      </div>
    </>
  );
}

const keyOf = (e: Taken) => JSON.stringify([e.source, e.id]);

function Outcome({ tried }: { tried: Tried }) {
  if (tried.rules.length === 0) {
    return (
      <>
        <h3 className={styles.verdict}>No rule is for this type.</h3>
        {tried.nearest && (
          <p>
            The nearest with a rule is <code>{tried.nearest}</code>.
          </p>
        )}
      </>
    );
  }
  const made = tried.rules.reduce((sum, r) => sum + r.count, 0);
  const failed = tried.rules.filter((r) => r.fails).length;
  return (
    <>
      <h3 className={styles.verdict}>
        {failed > 0 ? 'It fails.' : made === 0 ? 'Nothing would be sent.' : `${many(made, 'notification')}.`}
      </h3>
      {tried.rules.map((rule) => (
        <One key={rule.rule} rule={rule} />
      ))}
    </>
  );
}

function One({ rule }: { rule: TriedRule }) {
  return (
    <div className={styles.tried}>
      <p>
        <Glyph sign={rule.fails ? 'aside' : rule.matches ? 'allowed' : 'unmet'} /> <b>{rule.rule}</b>{' '}
        {rule.fails ?? rule.because ?? (rule.matches ? 'matches' : '')}
        {rule.gathersForSeconds && `; gathers for ${rule.gathersForSeconds} s`}
      </p>
      {rule.notifications.map((n, i) => {
        const body = n.notification as Record<string, unknown>;
        return (
          <article key={String(i)} className={styles.shown}>
            <b>{String(body.title)}</b>
            {body.body ? <span>{String(body.body)}</span> : null}
            <p className={styles.chips}>
              {n.reach.map((r) => (
                <Chip key={r.address} of={r.address}>
                  {many(r.users, 'person', 'people')}, {r.connected} connected
                </Chip>
              ))}
              {body.link ? <Chip of="link">{String(body.link)}</Chip> : null}
              {body.urgency ? <Chip of="urgency">{String(body.urgency)}</Chip> : null}
              {body.subject ? <Chip of="about">{String(body.subject)}</Chip> : null}
              <Chip of="on the wire">{n.bytes} B</Chip>
            </p>
          </article>
        );
      })}
      {rule.count > rule.notifications.length && (
        <p className={styles.quiet}>and {rule.count - rule.notifications.length} more</p>
      )}
    </div>
  );
}
